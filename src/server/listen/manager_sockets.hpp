// The listening sockets that a service manager has opened for this server (socket activation).
//
// They may be at ports that the server could not open by itself, and the manager goes on to use them when the server
// has ended. So they are kept for as long as the process lives, and passed on when it begins anew; while nobody is to
// be let in they are at rest: bound, and refusing connections. For the thread that opens and closes addresses.
#pragma once

#include <optional>
#include <vector>

#include "core/files/descriptor.hpp"
#include "core/settings/address.hpp"

namespace porter::server {

/// Takes over the sockets of the manager, if there is one, and tells their endpoints. Once, before anything else is
/// opened.
std::vector<Endpoint> keep_manager_sockets();

/// A handle of the manager's socket at `endpoint`, which listens from now on; nullopt: it has none there.
std::optional<files::Descriptor> wake_manager_socket(const Endpoint& endpoint);

/// Has the socket at `endpoint` refuse connections, if it is the manager's. All other handles of it are closed before.
void rest_manager_socket(const Endpoint& endpoint);

/// Has all of them listen, as the manager left them: it looks at them again when this process has ended.
void return_manager_sockets();

/// Makes them, just before the process becomes another program, those of that one.
void pass_manager_sockets_on();

}  // namespace porter::server
