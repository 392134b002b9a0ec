// See listeners.hpp.
#include "server/listen/listeners.hpp"

#include <sys/socket.h>

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <exception>
#include <iterator>
#include <memory>
#include <utility>

#include "core/files/descriptor.hpp"
#include "run/event.hpp"
#include "server/listen/manager_sockets.hpp"

namespace porter::server {
namespace {

constexpr std::chrono::milliseconds kPauseWithoutDescriptors{100};

bool is_among(const std::vector<Endpoint>& all, const Endpoint& one) {
  return std::find(all.begin(), all.end(), one) != all.end();
}

}  // namespace

void Listeners::accept_on(std::vector<ListeningSocket> opened) {
  for (ListeningSocket& one : opened) {
    const asio::ip::tcp protocol = one.endpoint.is_v6() ? asio::ip::tcp::v6() : asio::ip::tcp::v4();
    asio::ip::tcp::acceptor acceptor(context_, protocol, one.socket.release());
    // A client that has left again while it waited is told of; else others that wait would not be seen behind it.
    acceptor.set_option(asio::socket_base::enable_connection_aborted(true));
    const auto& listener = open_.emplace_back(std::make_shared<Open>(context_, one.endpoint, std::move(acceptor)));
    // Once, while there is memory: the list of all alarms has room for it from then on.
    listener->alarm.set(run::Clock::now() + kPauseWithoutDescriptors, [listener] {});
    accept_next(listener);
  }
}

void Listeners::accept_next(const std::shared_ptr<Open>& listener) noexcept {
  if (!listener->acceptor.is_open()) return;
  try {
    listener->acceptor.async_accept(
        [this, listener](const boost::system::error_code& error, asio::ip::tcp::socket socket) {
          accepted(listener, error, std::move(socket));
        });
  } catch (const std::exception&) {
    pause(listener, ENOMEM);
  }
}

void Listeners::accepted(const std::shared_ptr<Open>& listener, const boost::system::error_code& error,
                         asio::ip::tcp::socket socket) noexcept {
  if (error == asio::error::operation_aborted || !listener->acceptor.is_open()) return;
  if (error && error != asio::error::connection_aborted) return pause(listener, error.value());
  try {
    if (!error) take_(socket.release(), listener->endpoint);
    error_ = 0;
  } catch (const std::exception&) {
    return pause(listener, ENOMEM);
  }
  accept_next(listener);
}

void Listeners::pause(const std::shared_ptr<Open>& listener, int error) noexcept {
  error_ = error;
  failed_at_ = run::Clock::now();
  // Out of descriptors or memory: trying again at once would only turn in circles until some is free.
  listener->alarm.set(failed_at_ + kPauseWithoutDescriptors, [this, listener] { accept_next(listener); });
}

std::vector<Endpoint> Listeners::present() const {
  std::vector<Endpoint> out;
  for (const auto& listener : open_) out.push_back(listener->endpoint);
  return out;
}

void Listeners::drain_and_close(Open& listener) {
  for (;;) {
    const int socket = ::accept4(listener.acceptor.native_handle(), nullptr, nullptr, SOCK_CLOEXEC);
    if (socket < 0) break;
    take_(socket, listener.endpoint);
  }
  // Taken out of the event loop before it is closed: of a socket of the manager another handle stays open, so the
  // system would go on to tell of it, and refuse the next one that has its number.
  boost::system::error_code ignored;
  files::Descriptor(listener.acceptor.release(ignored)).reset();
  rest_manager_socket(listener.endpoint);
}

template <typename IsUnwanted>
void Listeners::close_those(IsUnwanted is_unwanted) {
  for (const auto& listener : open_)
    if (is_unwanted(listener->endpoint)) drain_and_close(*listener);
  std::erase_if(open_, [](const auto& listener) { return !listener->acceptor.is_open(); });
}

std::variant<Listeners::Change, std::vector<Finding>> Listeners::prepare(const std::vector<Listener>& listeners) {
  Change change;
  for (const Listener& listener : listeners)
    for (const Endpoint& endpoint : listener.address.endpoints()) change.wanted.push_back(endpoint);
  std::vector<Finding> findings;
  const auto try_to_open = [&](Address address) -> std::optional<ListenError> {
    auto opened = listen_on(address, present());
    if (const auto* const error = std::get_if<ListenError>(&opened)) return *error;
    auto& some = std::get<std::vector<ListeningSocket>>(opened);
    std::move(some.begin(), some.end(), std::back_inserter(change.opened));
    return std::nullopt;
  };
  const auto gives_way_to = [&](const Address& address) {
    return
        [&change, &address](const Endpoint& own) { return own.port == address.port && !is_among(change.wanted, own); };
  };
  std::vector<Address> conflicting;
  for (const Listener& listener : listeners) {
    const auto error = try_to_open(listener.address);
    if (!error) continue;
    // Going from localhost to network, say, the port is taken by ourselves, on an address that is about to be closed.
    const auto endpoints = present();
    const bool is_ours = std::any_of(endpoints.begin(), endpoints.end(), gives_way_to(listener.address));
    if (error->number == EADDRINUSE && is_ours) {
      conflicting.push_back(listener.address);
    } else {
      findings.push_back(listen_finding(listener.address, *error));
    }
  }
  if (!findings.empty()) return findings;
  std::vector<Address> closed;
  for (const Address& address : conflicting) {
    for (const Endpoint& own : present())
      if (gives_way_to(address)(own)) closed.push_back({Address::Reach::one, own.ip, own.port});
    close_those(gives_way_to(address));
    if (const auto error = try_to_open(address)) findings.push_back(listen_finding(address, *error));
  }
  if (findings.empty()) return change;
  // Another program holds the port on a further address: back to what was.
  change.opened.clear();
  for (Address& address : closed) {
    auto opened = listen_on(address);
    if (auto* const some = std::get_if<std::vector<ListeningSocket>>(&opened)) accept_on(std::move(*some));
  }
  return findings;
}

void Listeners::commit(Change change) {
  accept_on(std::move(change.opened));
  close_those([&](const Endpoint& own) { return !is_among(change.wanted, own); });
}

int Listeners::error() const {
  // It is tried again all the time, so an error that has not come again has passed.
  return run::Clock::now() < failed_at_ + 10 * kPauseWithoutDescriptors ? error_ : 0;
}

void Listeners::close() {
  boost::system::error_code ignored;
  for (const auto& listener : open_) {
    listener->acceptor.close(ignored);
    listener->alarm.cancel();
  }
}

}  // namespace porter::server
