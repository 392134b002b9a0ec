// Colour or not. See terminal.hpp.
#include "machine/terminal.hpp"

#include <unistd.h>

#include <cstdlib>

namespace porter::machine {

bool wants_colour() {
  const char* const no_color = std::getenv("NO_COLOR");
  return (no_color == nullptr || *no_color == '\0') && ::isatty(STDOUT_FILENO) == 1;
}

}  // namespace porter::machine
