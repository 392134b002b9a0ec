// uporter interpreters: which languages can be run on this machine.
#pragma once

#include <CLI/CLI.hpp>

namespace porter::client {

/// Adds the command to `app`. It prints its table when it is parsed, and sets `status`, which must outlive the parsing.
void add_interpreters(CLI::App& app, int& status);

}  // namespace porter::client
