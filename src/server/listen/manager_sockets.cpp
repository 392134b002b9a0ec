// See manager_sockets.hpp.
#include "server/listen/manager_sockets.hpp"

#include <fcntl.h>
#include <sys/socket.h>
#include <unistd.h>

#include <cstdlib>
#include <string>
#include <utility>

#include "server/listen/addresses.hpp"
#include "server/listen/service_manager.hpp"

namespace porter::server {
namespace {

/// Where the manager puts the first of them (sd_listen_fds(3)).
constexpr int kFirst = 3;

std::vector<ListeningSocket>& kept() {
  static std::vector<ListeningSocket> all;
  return all;
}

}  // namespace

std::vector<Endpoint> keep_manager_sockets() {
  std::vector<Endpoint> endpoints;
  const int on = 1;
  for (const int socket : sockets_of_manager()) {
    // It listens again after a pause, and the connections that it had may not be in its way; they take this over from
    // it.
    ::setsockopt(socket, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
    kept().push_back({endpoint_of(socket), files::Descriptor(socket)});
    endpoints.push_back(kept().back().endpoint);
  }
  return endpoints;
}

std::optional<files::Descriptor> wake_manager_socket(const Endpoint& endpoint) {
  for (const ListeningSocket& own : kept()) {
    if (own.endpoint != endpoint) continue;
    ::listen(own.socket.get(), kBacklog);
    return files::Descriptor(::fcntl(own.socket.get(), F_DUPFD_CLOEXEC, 0));
  }
  return std::nullopt;
}

void rest_manager_socket(const Endpoint& endpoint) {
  for (const ListeningSocket& own : kept())
    if (own.endpoint == endpoint) ::shutdown(own.socket.get(), SHUT_RD);
}

void return_manager_sockets() {
  for (const ListeningSocket& own : kept()) ::listen(own.socket.get(), kBacklog);
}

void pass_manager_sockets_on() {
  if (kept().empty()) return;
  // Out of the way first, so that none is closed by another that takes its number.
  const int beyond = kFirst + static_cast<int>(kept().size());
  for (ListeningSocket& own : kept()) own.socket.reset(::fcntl(own.socket.get(), F_DUPFD_CLOEXEC, beyond));
  int next = kFirst;
  for (const ListeningSocket& own : kept()) ::dup2(own.socket.get(), next++);
  ::setenv("LISTEN_FDS", std::to_string(kept().size()).c_str(), 1);
  ::setenv("LISTEN_PID", std::to_string(::getpid()).c_str(), 1);
}

}  // namespace porter::server
