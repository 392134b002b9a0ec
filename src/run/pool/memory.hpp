// The memory of all pools' processes together, and its bound: above it no process is begun, and those that are idle
// end, the one that has been so longest first. What is at work may grow beyond; nobody ends that.
#pragma once

#include <sys/types.h>

#include <atomic>
#include <chrono>
#include <cstddef>
#include <functional>
#include <mutex>
#include <string>
#include <unordered_map>
#include <utility>

namespace porter::run {

/// For use by all threads.
class PoolMemory {
 public:
  using Clock = std::chrono::steady_clock;

  /// `end_idle` ends the process that has been idle longest of all; false: none is idle.
  explicit PoolMemory(std::function<bool()> end_idle = [] { return false; }) : end_idle_(std::move(end_idle)) {}

  void set_bound(std::size_t bytes) { bound_ = bytes; }
  std::size_t bound() const { return bound_; }
  /// Bytes that the processes have had to themselves at their largest, as of the last look.
  std::size_t taken() const { return taken_; }
  /// True if another process may be begun: the only one may in any case.
  bool has_room() const {
    const std::size_t coming = expected_;
    return (taken_ == 0 && coming == 0) || taken_ + (coming + 1) * usual_ <= bound_;
  }

  /// One will be begun in a moment.
  void expect();
  /// A process has been begun.
  void add(pid_t process);
  /// It has ended, or is about to.
  void remove(pid_t process);

  /// Measures them unless that was done a moment ago. Where there is no room, idle ones end.
  void make_room(Clock::time_point now);
  /// The same now and then, for those that grow.
  void look(Clock::time_point now);

 private:
  void measure();

  const std::function<bool()> end_idle_;
  std::atomic<std::size_t> bound_{std::size_t{1} << 30};
  std::atomic<std::size_t> taken_{0};
  std::atomic<std::size_t> usual_{std::size_t{8} << 20};  ///< What another one is likely to take.
  std::atomic<std::size_t> expected_{0};                  ///< Those that are not among them yet.
  std::atomic<Clock::rep> expected_at_{0};                ///< When the last of them was.
  std::atomic<Clock::rep> looked_at_{0};
  std::mutex mutex_;
  struct Process {
    std::size_t bytes;
    Clock::time_point begun = Clock::now();
  };
  std::unordered_map<pid_t, Process> processes_;  // Guarded by mutex_.
};

/// "the persistent processes take 1.1 GiB, and pool-memory is 1 GiB".
std::string taken_memory(const PoolMemory& memory);

}  // namespace porter::run
