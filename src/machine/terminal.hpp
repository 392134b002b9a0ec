// What the terminal that a program writes to is for.
#pragma once

namespace porter::machine {

/// True if standard output is a terminal and the user has not asked for no colour (NO_COLOR).
bool wants_colour();

}  // namespace porter::machine
