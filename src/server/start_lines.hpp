// The lines that tell, once the server runs, where it runs and what it can do.
#pragma once

#include <chrono>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "run/probe.hpp"
#include "server/addresses.hpp"
#include "server/log_line.hpp"

namespace porter::server {

struct StartLines {
  std::chrono::nanoseconds ready_after{0};
  std::string document_root;
  std::uint16_t port = 0;
  std::optional<std::string> instead_of;  ///< A sentence: the usual port is taken, and by whom.
  Reach reach = Reach::this_computer;
  std::vector<run::FoundInterpreter> interpreters;
};

std::string text_of(const StartLines& start, Colour colour);

}  // namespace porter::server
