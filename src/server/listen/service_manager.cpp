// Loading the manager's library when it is needed. See service_manager.hpp.
#include "server/listen/service_manager.hpp"

#include <dlfcn.h>
#include <sys/socket.h>
#include <systemd/sd-daemon.h>

#include <cstdlib>

namespace porter::server {
namespace {

bool is_set(const char* name) {
  const char* const value = std::getenv(name);
  return value != nullptr && *value != '\0';
}

/// The library's function of that name and type; null if the library is not there.
template <typename Function>
Function* function_of_library(const char* name) {
  static void* const library = ::dlopen("libsystemd.so.0", RTLD_NOW | RTLD_LOCAL);
  return library == nullptr ? nullptr : reinterpret_cast<Function*>(::dlsym(library, name));
}

}  // namespace

std::vector<int> sockets_of_manager() {
  std::vector<int> sockets;
  if (!is_set("LISTEN_FDS")) return sockets;
  auto* const listen_fds = function_of_library<decltype(::sd_listen_fds)>("sd_listen_fds");
  auto* const is_socket = function_of_library<decltype(::sd_is_socket)>("sd_is_socket");
  if (listen_fds == nullptr || is_socket == nullptr) return sockets;
  const int count = listen_fds(1);
  for (int i = 0; i < count; ++i) {
    const int socket = SD_LISTEN_FDS_START + i;
    if (is_socket(socket, AF_UNSPEC, SOCK_STREAM, 1) > 0) sockets.push_back(socket);
  }
  return sockets;
}

bool has_waiting_manager() { return is_set("NOTIFY_SOCKET"); }

void tell_manager_ready() {
  if (!has_waiting_manager()) return;
  if (auto* const notify = function_of_library<decltype(::sd_notify)>("sd_notify")) notify(0, "READY=1");
}

}  // namespace porter::server
