// What a service manager (systemd) hands to the server, and is told by it.
//
// Its library is loaded only where there is one: with all that it needs in turn it takes as much memory as a tenth of
// an idle server.
#pragma once

#include <vector>

namespace porter::server {

/// The listening sockets that the manager has opened for this process; none without one. Once, before anything else is
/// opened.
std::vector<int> sockets_of_manager();

/// True if a manager waits to be told.
bool has_waiting_manager();

/// Tells the manager, if there is one, that the server answers.
void tell_manager_ready();

}  // namespace porter::server
