// Comparing what a process has used. See work_share.hpp.
#include "run/work_share.hpp"

#include <ctime>
#include <utility>

#include "run/proc.hpp"

namespace porter::run {

bool WorkShare::is_waiting(pid_t id, std::chrono::steady_clock::time_point now) {
  clockid_t clock = 0;
  timespec time{};
  if (::clock_getcpuclockid(id, &clock) != 0 || ::clock_gettime(clock, &time) != 0) return false;
  const auto used = std::chrono::seconds(time.tv_sec) + std::chrono::nanoseconds(time.tv_nsec);
  const auto before = std::exchange(used_, used);
  const auto since = now - std::exchange(looked_at_, now);
  if (before.count() < 0 || (used - before) * 10 > since) return false;
  const auto state = state_of(id);
  return state && state->state != 'R';
}

}  // namespace porter::run
