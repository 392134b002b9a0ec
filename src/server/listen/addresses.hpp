// Opening the addresses that the server listens on.
#pragma once

#include <string>
#include <variant>
#include <vector>

#include "core/files/descriptor.hpp"
#include "core/findings/finding.hpp"
#include "core/settings/address.hpp"

namespace porter::server {

/// An listener: a listening socket, and the endpoint that it stands for.
struct ListeningSocket {
  Endpoint endpoint;
  files::Descriptor socket;
};

struct ListenError {
  int number;  ///< errno: EADDRINUSE, EACCES, …
};

/// Listens on `address`, one listener for each of its endpoints but those in `open_already`. A machine without IPv6 is
/// served over IPv4 alone. Where the port is 0, any free one is taken, and `address` is given its number.
std::variant<std::vector<ListeningSocket>, ListenError> listen_on(Address& address,
                                                                  const std::vector<Endpoint>& open_already = {});

/// Listens on the first free port from that of `address` upwards, trying `count` of them; `address` is given its
/// number.
std::variant<std::vector<ListeningSocket>, ListenError> listen_from(Address& address, int count);

/// The endpoint that a listening socket is bound to.
Endpoint endpoint_of(int socket);

/// How many connections wait at most until they are accepted.
inline constexpr int kBacklog = 4096;

/// Why `address` could not be listened on, with the holder of its port where that is the reason.
Finding listen_finding(const Address& address, ListenError error);

}  // namespace porter::server
