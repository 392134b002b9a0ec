// The warden: a small process beside the server that ends every script should the server itself be killed hard.
//
// It waits for the end of a pipe that the server holds open. When that comes without a word, the server is gone, and
// the warden ends all processes that carry the mark of the server's runs (run/fresh/kin.hpp). It belongs to no
// terminal.
#pragma once

#include <sys/types.h>

#include "core/files/descriptor.hpp"

namespace porter::run {

struct Warden {
  /// While it is open the warden only waits; it shows an error once the warden is gone. Not open: none could be made.
  files::Descriptor pipe{};
  pid_t process = 0;  ///< 0 if it is nobody's child; else a child of this process, without a mark.
};

/// Whose child a warden is. Without a child, the end of a run needs no look for orphans; but while a process is made
/// that is nobody's, orphans do not come here, so that is for a time without runs.
enum class WardenIs { nobodys, own };

/// Makes a warden. Requires that hold_kin() was called before. Called early, before the first run begins, and again
/// should the warden be killed.
Warden start_warden(WardenIs is);

/// Tells the warden that the server ends in peace, and buries it; also one that has ended before.
void dismiss_warden(Warden warden);

/// For a program that is no server and has a few runs: all that comes of them ends with this object, and with the
/// program, however that ends. Made before the first run; one at a time.
class ScopedKin {
 public:
  ScopedKin();
  ~ScopedKin();
  ScopedKin(const ScopedKin&) = delete;
  ScopedKin& operator=(const ScopedKin&) = delete;

 private:
  Warden warden_;
};

}  // namespace porter::run
