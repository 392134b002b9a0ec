// Binding both address families to one port. See addresses.hpp.
#include "server/addresses.hpp"

#include <arpa/inet.h>
#include <netinet/in.h>
#include <sys/socket.h>

#include <cerrno>

namespace porter::server {
namespace {

constexpr int kBacklog = 1024;
constexpr int kTriesForAnyPort = 20;

/// A listening socket bound to `address`; not open, with errno set, if that failed.
files::Descriptor open_socket(int family, const sockaddr* address, socklen_t length) {
  files::Descriptor socket(::socket(family, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0));
  if (!socket.is_open()) return socket;
  const int on = 1;
  // So that a restart does not wait for old connections to be forgotten; two listeners are still refused.
  ::setsockopt(socket.get(), SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
  if (family == AF_INET6) ::setsockopt(socket.get(), IPPROTO_IPV6, IPV6_V6ONLY, &on, sizeof on);
  if (::bind(socket.get(), address, length) != 0 || ::listen(socket.get(), kBacklog) != 0) {
    const int error = errno;
    socket.reset();
    errno = error;
  }
  return socket;
}

std::uint16_t bound_port(const files::Descriptor& socket) {
  sockaddr_in address{};
  socklen_t length = sizeof address;
  ::getsockname(socket.get(), reinterpret_cast<sockaddr*>(&address), &length);
  return ntohs(address.sin_port);
}

}  // namespace

std::variant<Listening, ListenError> listen_on(std::uint16_t port, Reach reach) {
  int error = 0;
  for (int attempt = 0; attempt < (port == 0 ? kTriesForAnyPort : 1); ++attempt) {
    Listening listening;
    sockaddr_in v4{};
    v4.sin_family = AF_INET;
    v4.sin_port = htons(port);
    v4.sin_addr.s_addr = htonl(reach == Reach::network ? INADDR_ANY : INADDR_LOOPBACK);
    auto first = open_socket(AF_INET, reinterpret_cast<const sockaddr*>(&v4), sizeof v4);
    if (!first.is_open()) return ListenError{errno};
    listening.port = bound_port(first);
    listening.sockets.push_back(std::move(first));

    sockaddr_in6 v6{};
    v6.sin6_family = AF_INET6;
    v6.sin6_port = htons(listening.port);
    v6.sin6_addr = reach == Reach::network ? in6addr_any : in6addr_loopback;
    auto second = open_socket(AF_INET6, reinterpret_cast<const sockaddr*>(&v6), sizeof v6);
    error = errno;
    if (second.is_open()) listening.sockets.push_back(std::move(second));
    // A machine without IPv6 is served over IPv4 alone. A port that only IPv6 has lost counts as taken, since a browser
    // that tries IPv6 first would reach the other program.
    if (listening.sockets.size() == 2 || error != EADDRINUSE) return listening;
  }
  return ListenError{error};
}

std::variant<Listening, ListenError> listen_from(std::uint16_t first, int count, Reach reach) {
  for (int i = 0;; ++i) {
    auto listening = listen_on(static_cast<std::uint16_t>(first + i), reach);
    const auto* const error = std::get_if<ListenError>(&listening);
    if (error == nullptr || error->number != EADDRINUSE || i + 1 == count) return listening;
  }
}

}  // namespace porter::server
