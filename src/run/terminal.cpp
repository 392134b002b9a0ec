// Colour or not. See terminal.hpp.
#include "run/terminal.hpp"

#include <unistd.h>

#include <cstdlib>

namespace porter::run {

bool wants_colour() {
  const char* const no_color = std::getenv("NO_COLOR");
  return (no_color == nullptr || *no_color == '\0') && ::isatty(STDOUT_FILENO) == 1;
}

}  // namespace porter::run
