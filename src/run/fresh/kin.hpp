// Kin: all processes that come of one run, wherever they have gone.
//
// A process can leave its group, its session and its parent, and change its name and its environment. What it keeps is
// its limits. So each run's processes carry a mark there: a limit of the processor time of real-time scheduling, of
// many thousand years, with a number of the run in it. Whoever is left without a parent comes to this process
// (PR_SET_CHILD_SUBREAPER), where the mark tells which run it belongs to, and that it is none of ours to end otherwise.
#pragma once

#include <sys/resource.h>
#include <sys/types.h>

#include <cstdint>
#include <vector>

namespace porter::run {

/// Has orphans come to this process, and sets the mark by which they are known. To be called once, before the first
/// run; without it runs have no mark, and only their groups are ended.
void hold_kin();

/// The mark of all runs of this process, for whoever is to end them when it is gone: a value of RLIMIT_RTTIME whose
/// lower kNumberBits bits are 0. 0: hold_kin() was not called.
std::uint64_t kin_mark();
inline constexpr unsigned kNumberBits = 40;

/// One run's processes. For use by the thread of the run; different ones may be used by different threads.
class Kin {
 public:
  Kin();
  ~Kin();
  Kin(const Kin&) = delete;
  Kin& operator=(const Kin&) = delete;

  /// The limit to be set in the first process before it becomes the program.
  rlimit mark() const;
  /// The first process has been made; it leads a group of its own.
  void set_leader(pid_t id);

  /// Sends `signal` to the group, the first process, and all of their descendants, those that have left both included.
  /// Requires that the first process has not been reaped.
  void signal(int signal) const;

  /// Those of its processes that have lost their parents.
  std::vector<pid_t> orphans() const;

  /// What the first process leaves running lives on once it has been reaped, until end_all_kin().
  void spare();

  /// Reaps the first process if it has ended: false if it has not, or was reaped before. What is left of the others has
  /// no claim to live any more.
  bool reap(int& status, rusage& usage);

 private:
  /// The processes that the first one has made and those that these have made, those without a parent included.
  std::vector<pid_t> descendants() const;

  bool is_spared_ = false;
  std::uint64_t number_ = 0;
  pid_t leader_ = 0;
};

/// Ends orphans whose runs are over, and reaps all that have ended. True: some were ended, so others may have become
/// orphans since. From any thread.
bool end_orphans();

/// Ends and reaps all processes of all runs, and waits for that, within a second. To be called when no run is left.
void end_all_kin();

}  // namespace porter::run
