// autostart: a systemd user unit that starts the server at login.
#pragma once

#include <string>

#include "client/instance_commands.hpp"

namespace porter::client {

enum class Autostart { on, off, status };
int run_autostart(const std::string& settings, Autostart wish);

}  // namespace porter::client
