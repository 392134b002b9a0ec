// Sockets that listen. See addresses.hpp.
#include "server/listen/addresses.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <sys/socket.h>

#include <algorithm>
#include <array>
#include <cerrno>

#include "core/files/beneath.hpp"
#include "core/text/text.hpp"
#include "machine/port_holder.hpp"
#include "server/listen/manager_sockets.hpp"

namespace porter::server {
namespace {

constexpr int kTriesForAnyPort = 20;

/// An endpoint as the system wants it.
struct Name {
  sockaddr_storage storage{};
  socklen_t length = 0;
  const sockaddr* pointer() const { return reinterpret_cast<const sockaddr*>(&storage); }
};

Name name_of(const Endpoint& endpoint) {
  Name name;
  if (endpoint.is_v6()) {
    auto& v6 = reinterpret_cast<sockaddr_in6&>(name.storage);
    v6.sin6_family = AF_INET6;
    v6.sin6_port = htons(endpoint.port);
    ::inet_pton(AF_INET6, endpoint.ip.c_str(), &v6.sin6_addr);
    name.length = sizeof v6;
  } else {
    auto& v4 = reinterpret_cast<sockaddr_in&>(name.storage);
    v4.sin_family = AF_INET;
    v4.sin_port = htons(endpoint.port);
    ::inet_pton(AF_INET, endpoint.ip.c_str(), &v4.sin_addr);
    name.length = sizeof v4;
  }
  return name;
}

/// A listening socket, not open if that failed; then errno tells why.
files::Descriptor open_socket(const Endpoint& endpoint) {
  if (auto own = wake_manager_socket(endpoint)) return std::move(*own);
  const int family = endpoint.is_v6() ? AF_INET6 : AF_INET;
  files::Descriptor socket(::socket(family, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0));
  if (!socket.is_open()) return socket;
  const int on = 1;
  // So that a restart does not wait for old connections to be forgotten; two listeners are still refused.
  ::setsockopt(socket.get(), SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
  if (family == AF_INET6) ::setsockopt(socket.get(), IPPROTO_IPV6, IPV6_V6ONLY, &on, sizeof on);
  const Name name = name_of(endpoint);
  if (::bind(socket.get(), name.pointer(), name.length) != 0 || ::listen(socket.get(), kBacklog) != 0) {
    const int error = errno;
    socket.reset();
    errno = error;
  }
  return socket;
}

}  // namespace

Endpoint endpoint_of(int socket) {
  sockaddr_storage storage{};
  socklen_t length = sizeof storage;
  std::array<char, INET6_ADDRSTRLEN> text{};
  ::getsockname(socket, reinterpret_cast<sockaddr*>(&storage), &length);
  if (storage.ss_family == AF_INET6) {
    const auto& v6 = reinterpret_cast<const sockaddr_in6&>(storage);
    ::inet_ntop(AF_INET6, &v6.sin6_addr, text.data(), text.size());
    return {text.data(), ntohs(v6.sin6_port)};
  }
  const auto& v4 = reinterpret_cast<const sockaddr_in&>(storage);
  ::inet_ntop(AF_INET, &v4.sin_addr, text.data(), text.size());
  return {text.data(), ntohs(v4.sin_port)};
}

std::variant<std::vector<ListeningSocket>, ListenError> listen_on(Address& address,
                                                                  const std::vector<Endpoint>& open_already) {
  int error = 0;
  for (int attempt = 0; attempt < (address.port == 0 ? kTriesForAnyPort : 1); ++attempt) {
    std::vector<ListeningSocket> entrances;
    Address tried = address;
    error = 0;
    bool is_first = true;
    for (std::size_t i = 0; i < tried.endpoints().size(); ++i) {
      const Endpoint endpoint = tried.endpoints()[i];
      if (std::find(open_already.begin(), open_already.end(), endpoint) != open_already.end()) {
        is_first = false;
        continue;
      }
      files::Descriptor socket = open_socket(endpoint);
      if (!socket.is_open()) {
        // Without IPv6, IPv4 will do. A port that only IPv6 has lost counts as taken, since a browser that tries IPv6
        // first would reach the other program.
        if (is_first || errno == EADDRINUSE) error = errno;
        if (error != 0) break;
        continue;
      }
      tried.port = endpoint_of(socket.get()).port;
      entrances.push_back({tried.endpoints()[i], std::move(socket)});
      is_first = false;
    }
    if (error == 0) {
      address = tried;
      return entrances;
    }
    if (error != EADDRINUSE) break;
  }
  return ListenError{error};
}

std::variant<std::vector<ListeningSocket>, ListenError> listen_from(Address& address, int count) {
  for (int i = 0;; ++i) {
    Address tried = address;
    tried.port = static_cast<std::uint16_t>(address.port + i);
    auto entrances = listen_on(tried);
    const auto* const error = std::get_if<ListenError>(&entrances);
    if (error == nullptr) address = tried;
    if (error == nullptr || error->number != EADDRINUSE || i + 1 == count) return entrances;
  }
}

Finding listen_finding(const Address& address, ListenError error) {
  const std::string port = std::to_string(address.port);
  if (error.number == EADDRINUSE) {
    const auto holder = machine::find_port_holder(address.port);
    return {Code::port_taken, {{"port", port}, {"holder", holder ? machine::text_of(*holder) : "another program"}}};
  }
  if (error.number == EACCES) return {Code::port_reserved, {{"port", port}}};
  if (error.number == EADDRNOTAVAIL) return {Code::address_not_here, {{"address", address.ip}}};
  return {Code::address_failed, {{"address", address.text()}, {"reason", files::describe({error.number})}}};
}

}  // namespace porter::server
