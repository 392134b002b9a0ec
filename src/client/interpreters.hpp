// uporter languages: the languages that can be run, and what to install for the rest.
#pragma once

#include <string>

#include "client/instance_commands.hpp"

namespace porter::client {

int run_interpreters(const std::string& settings);

}  // namespace porter::client
