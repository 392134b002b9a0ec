// What other programs inherit of the environment of this one: scripts by an allow-list, and no more.
#pragma once

#include <string>
#include <vector>

#include "run/pool/order.hpp"

namespace porter::machine {

/// The folders in which programs are looked for: PATH, or the usual ones where there is none.
std::string search_path();

/// "NAME=value" of the variables that are passed on: PATH, HOME, LANG and TZ, where they are set.
std::vector<std::string> passed_on();

/// What scripts get from a server that this process is, or stands for.
run::Supplies supplies();

/// "NAME=value" of all variables of this process: for programs that are no scripts.
std::vector<std::string> own_environment();

/// Whether this process could open windows.
bool has_display();

/// The addresses of this machine by which other devices can reach it, those of IPv4 first.
std::vector<std::string> network_addresses();

/// Names of variables that were exported in this session and are not passed on to scripts.
std::vector<std::string> kept_from_scripts();

}  // namespace porter::machine
