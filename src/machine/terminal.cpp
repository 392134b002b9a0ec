// Colour or not. See terminal.hpp.
#include "machine/terminal.hpp"

#include <sys/ioctl.h>
#include <unistd.h>

#include <cstdlib>

namespace porter::machine {

bool wants_colour() {
  const char* const no_color = std::getenv("NO_COLOR");
  return (no_color == nullptr || *no_color == '\0') && ::isatty(STDOUT_FILENO) == 1;
}

std::size_t terminal_width() {
  winsize size{};
  if (::isatty(STDOUT_FILENO) == 0 || ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) != 0) return 0;
  return size.ws_col;
}

}  // namespace porter::machine
