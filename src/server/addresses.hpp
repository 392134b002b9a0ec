// Opening the addresses that the server listens on.
#pragma once

#include <cstdint>
#include <string>
#include <variant>
#include <vector>

#include "core/files/descriptor.hpp"

namespace porter::server {

/// Who can reach the server.
enum class Reach { this_computer, network };

/// Listening sockets on one port: IPv4, and IPv6 where the machine has it.
struct Listening {
  std::uint16_t port = 0;
  std::vector<files::Descriptor> sockets;
};

struct ListenError {
  int number;  ///< errno: EADDRINUSE, EACCES, …
};

/// Listens on `port` (0: any free one).
std::variant<Listening, ListenError> listen_on(std::uint16_t port, Reach reach);

/// Listens on the first free port from `first` upwards, trying `count` of them.
std::variant<Listening, ListenError> listen_from(std::uint16_t first, int count, Reach reach);

}  // namespace porter::server
