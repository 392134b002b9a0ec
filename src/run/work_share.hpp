// Whether a process computes or waits: for whoever has to tell work from waiting, and asks now and then.
#pragma once

#include <sys/types.h>

#include <chrono>

namespace porter::run {

/// Of one process. For use by one thread at a time.
class WorkShare {
 public:
  /// Whether the process `id` has used less than a tenth of a processor since this was asked last, and does not want
  /// one now. The first time nothing is known yet, and it counts as computing.
  bool is_waiting(pid_t id, std::chrono::steady_clock::time_point now);

 private:
  std::chrono::nanoseconds used_{-1};
  std::chrono::steady_clock::time_point looked_at_{};
};

}  // namespace porter::run
