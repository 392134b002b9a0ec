// What the terminal that a program writes to is for.
#pragma once

#include <cstddef>

namespace porter::machine {

/// True if standard output is a terminal and the user has not asked for no colour (NO_COLOR).
bool wants_colour();
/// The columns of the terminal at standard output; 0: it is none.
std::size_t terminal_width();

}  // namespace porter::machine
