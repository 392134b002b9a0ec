// The lines that tell, once the server runs, where it runs and what it can do.
#pragma once

#include <chrono>
#include <optional>
#include <string>
#include <vector>

#include "core/settings/settings.hpp"
#include "machine/probe.hpp"
#include "server/record/log_line.hpp"

namespace porter::server {

struct StartLines {
  std::chrono::nanoseconds ready_after{0};
  Settings settings;
  std::optional<std::string> instead_of;  ///< A sentence: the usual port is taken, and by whom.
  std::string stop;                       ///< What to type to stop the server.
  std::string console{};                  ///< The URL of the console, key and all; empty: there is none.
  bool shows_code = false;                ///< They are for a terminal, which can show a code to be photographed.
  std::vector<std::string> remarks{};     ///< What else is to be told, a line each.
  std::vector<machine::FoundInterpreter> interpreters;
};

std::string text_of(const StartLines& start, Colour colour);

}  // namespace porter::server
