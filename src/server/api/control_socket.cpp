// See control_socket.hpp.
#include "server/api/control_socket.hpp"

#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <chrono>

#include "core/files/beneath.hpp"

namespace porter::server {
namespace {

constexpr std::chrono::milliseconds kPauseWithoutDescriptors{200};
constexpr int kBacklogOfCalls = 64;
/// Beyond so many at once a client waits until another has left.
constexpr std::size_t kMostClients = 128;

/// The mode of the socket keeps others out; asking once more costs nothing.
bool is_of_this_user(int socket) {
  ucred peer{};
  socklen_t length = sizeof peer;
  const bool is_known = ::getsockopt(socket, SOL_SOCKET, SO_PEERCRED, &peer, &length) == 0;
  return is_known && (peer.uid == ::getuid() || peer.uid == 0);
}

}  // namespace

ControlSocket::ControlSocket(Server& server, Api& api, std::string path)
    : server_(server),
      api_(api),
      path_(std::move(path)),
      responder_(api),
      worker_(server.shared(), server.context(), std::make_shared<const Snapshot>(), responder_, connections_),
      acceptor_(server.context()) {}

ControlSocket::~ControlSocket() { close(); }

std::optional<Finding> ControlSocket::open() {
  ::unlink(path_.c_str());
  boost::system::error_code error;
  acceptor_.open(asio::local::stream_protocol(), error);
  const mode_t before = ::umask(0177);
  if (!error) acceptor_.bind(asio::local::stream_protocol::endpoint(path_), error);
  ::umask(before);
  if (!error) acceptor_.listen(kBacklogOfCalls, error);
  if (error) return Finding{Code::control_failed, {{"file", path_}, {"reason", files::describe({error.value()})}}};
  asio::co_spawn(server_.context(), accept(), asio::detached);
  return std::nullopt;
}

void ControlSocket::close() {
  if (is_closed_) return;
  is_closed_ = true;
  if (acceptor_.is_open()) {
    boost::system::error_code ignored;
    acceptor_.close(ignored);
    ::unlink(path_.c_str());
  }
  api_.close();
  worker_.stop();
  worker_.abort();
}

asio::awaitable<void> ControlSocket::accept() {
  while (acceptor_.is_open()) {
    if (connections_.load(std::memory_order_relaxed) >= kMostClients) {
      asio::steady_timer pause(server_.context(), kPauseWithoutDescriptors);
      co_await pause.async_wait(run::kAwait);
      continue;
    }
    auto [error, socket] = co_await acceptor_.async_accept(run::kAwait);
    if (error == asio::error::operation_aborted) co_return;
    if (error) {
      asio::steady_timer pause(server_.context(), kPauseWithoutDescriptors);
      co_await pause.async_wait(run::kAwait);
      continue;
    }
    if (!is_of_this_user(socket.native_handle())) continue;
    connections_.fetch_add(1, std::memory_order_relaxed);
    worker_.adopt(socket.release(), {});
  }
}

}  // namespace porter::server
