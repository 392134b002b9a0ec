// The warden: a small process beside the server that ends every script should the server itself be killed hard.
//
// It waits for the end of a pipe that the server holds open. When that comes without a word, the server is gone, and
// the warden ends all processes that carry the mark of the server's runs (run/kin.hpp). It belongs to no terminal and
// is nobody's child.
#pragma once

#include "core/files/descriptor.hpp"

namespace porter::run {

/// Makes a warden. Requires that hold_kin() was called before. Called early, before the first run begins, and again
/// should the warden be killed. The result is the end of its pipe: while it is open the warden only waits, and it shows
/// an error once the warden is gone; not open: none could be made.
files::Descriptor start_warden();

/// Tells the warden at the end of `pipe` that the server ends in peace, and that nothing is left to be done.
void dismiss_warden(const files::Descriptor& pipe);

}  // namespace porter::run
