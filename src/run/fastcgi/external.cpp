// Connecting to workers. See workers.hpp.
#include "run/fastcgi/external.hpp"

#include <sys/socket.h>
#include <sys/un.h>

#include <algorithm>
#include <boost/asio/generic/stream_protocol.hpp>
#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/local/stream_protocol.hpp>
#include <boost/asio/this_coro.hpp>
#include <cerrno>
#include <utility>

#include "core/files/beneath.hpp"

namespace porter::run {
namespace {

constexpr std::chrono::seconds kConnectTime{3};
constexpr std::chrono::seconds kLeftOutFor{1};
/// A socket of this machine whose queue is full says so at once.
constexpr std::chrono::milliseconds kQueuePause{5};

using Socket = asio::generic::stream_protocol::socket;
using Places = std::vector<asio::generic::stream_protocol::endpoint>;

/// Closes `socket` at `time`, so that what waits for it goes on.
class Patience {
 public:
  Patience(Socket& socket, Clock::time_point time) : timer_(socket.get_executor(), time) {
    timer_.async_wait([&socket, over = is_over_](const boost::system::error_code& error) {
      if (error || *over) return;
      *over = true;
      boost::system::error_code ignored;
      socket.close(ignored);
    });
  }
  ~Patience() { *is_over_ = true; }
  Patience(const Patience&) = delete;
  Patience& operator=(const Patience&) = delete;

  bool has_run_out() const { return *is_over_; }

 private:
  std::shared_ptr<bool> is_over_ = std::make_shared<bool>(false);
  asio::steady_timer timer_;
};

/// Where the server may be; empty, and a reason, if its name leads nowhere.
asio::awaitable<Places> places_of(const script::ExternalAddress& address, std::string& reason) {
  Places out;
  if (!address.path.empty()) {
    out.emplace_back(asio::local::stream_protocol::endpoint(address.path));
    co_return out;
  }
  boost::system::error_code not_an_address;
  const auto ip = asio::ip::make_address(address.host, not_an_address);
  if (!not_an_address) {
    out.emplace_back(asio::ip::tcp::endpoint(ip, address.port));
    co_return out;
  }
  asio::ip::tcp::resolver resolver(co_await asio::this_coro::executor);
  const auto [error, found] = co_await resolver.async_resolve(address.host, std::to_string(address.port), kAwait);
  if (error) reason = error.message();
  for (const auto& entry : found) out.emplace_back(entry.endpoint());
  co_return out;
}

/// A connection to `place`; an error if there is none by `time`.
asio::awaitable<boost::system::error_code> connect(Socket& socket, asio::generic::stream_protocol::endpoint place,
                                                   Clock::time_point time) {
  asio::steady_timer pause(socket.get_executor());
  for (;;) {
    boost::system::error_code error;
    socket.close(error);
    socket.open(place.protocol(), error);
    if (error) co_return error;
    bool has_run_out = false;
    {
      const Patience patience(socket, time);
      std::tie(error) = co_await socket.async_connect(place, kAwait);
      has_run_out = patience.has_run_out();
    }
    if (has_run_out) co_return asio::error::timed_out;
    if (error != boost::system::errc::resource_unavailable_try_again || Clock::now() >= time) co_return error;
    pause.expires_after(kQueuePause);
    co_await pause.async_wait(kAwait);
  }
}

}  // namespace

/// A connection for one request.
class ExternalPeer : public FastCgiPeer {
 public:
  ExternalPeer(std::shared_ptr<ExternalServers::One> external, Socket socket)
      : external_(std::move(external)), connection_(socket.get_executor()) {
    boost::system::error_code ignored;
    connection_.assign(socket.release());
    connection_.native_non_blocking(true, ignored);
    ++external_->at_work;
  }
  ~ExternalPeer() override { --external_->at_work; }

  asio::posix::stream_descriptor& connection() override { return connection_; }
  std::uint16_t next_request() override { return 1; }
  std::shared_ptr<char[]>& read_ahead() override { return read_ahead_; }
  fastcgi::Connection then() const override { return fastcgi::Connection::closes; }
  std::string name() const override { return external_->written; }
  void terminate() override {
    boost::system::error_code ignored;
    connection_.close(ignored);
  }
  Clock::time_point look(Clock::time_point) override { return Clock::time_point::max(); }
  void when_ended(std::function<void()>) override {}
  void give_back(Reusable) override { terminate(); }

 private:
  std::shared_ptr<ExternalServers::One> external_;
  asio::posix::stream_descriptor connection_;
  std::shared_ptr<char[]> read_ahead_;
};

ExternalServers::ExternalServers(const std::vector<std::string>& addresses) {
  for (const std::string& written : addresses)
    if (const auto address = script::parse_external(written))
      all_.push_back(std::make_shared<One>(One{written, *address}));
}

std::vector<std::shared_ptr<ExternalServers::One>> ExternalServers::in_order() {
  auto out = all_;
  std::rotate(out.begin(), out.begin() + static_cast<std::ptrdiff_t>(next_++ % out.size()), out.end());
  const auto now = Clock::now();
  std::stable_sort(out.begin(), out.end(), [now](const auto& a, const auto& b) {
    return std::pair(a->down_until > now, a->at_work) < std::pair(b->down_until > now, b->at_work);
  });
  return out;
}

asio::awaitable<std::variant<std::shared_ptr<FastCgiPeer>, Finding>> ExternalServers::reach() {
  const auto executor = co_await asio::this_coro::executor;
  std::string tries;
  const auto candidates = in_order();
  for (const auto& external : candidates) {
    std::string reason;
    auto asking = places_of(external->address, reason);
    const Places places = co_await std::move(asking);
    for (const auto& place : places) {
      Socket socket(executor);
      const auto error = co_await connect(socket, place, Clock::now() + kConnectTime);
      if (!error) co_return std::make_shared<ExternalPeer>(external, std::move(socket));
      reason = error == asio::error::timed_out ? "it did not answer" : files::describe({error.value()});
    }
    external->down_until = Clock::now() + kLeftOutFor;
    tries += (tries.empty() ? "" : "; ") + external->written + ": " + reason;
  }
  co_return Finding{Code::external_unreachable, {{"tries", tries}}};
}

}  // namespace porter::run
