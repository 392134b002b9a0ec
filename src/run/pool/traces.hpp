// What runs leave behind in a process that is there for many, and the next one must not meet: processes, a priority,
// limits, a signal mask.
#pragma once

#include <sys/types.h>

#include <chrono>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "run/proc.hpp"
#include "run/process.hpp"

namespace porter::run {

/// Of one process of a pool. For use by one thread at a time.
class Traces {
 public:
  /// `process` has just been started. `is_php`: it runs scripts within itself, and makes no processes of its own.
  Traces(const Process& process, bool is_php);

  /// A run is over: the processes that it has left running. What a program of another kind has started by the end of
  /// its first run is its own, and so are all where they are to live on. Costs two short system calls.
  std::vector<pid_t> left(bool live_on);
  /// Whether it has left another priority.
  bool has_altered_priority() const;
  /// Whether a script has left other limits, or another signal mask, after so many `runs`. That costs about 16 µs, so
  /// it is looked at every few milliseconds at most.
  bool has_altered_limits(std::uint64_t runs);

  /// Whether what the process `sender` has sent is the program's own word, and not that of a copy which a run begun
  /// `age` ago has made of it (fork). `is_first`: that is its first run.
  bool is_own_word(pid_t sender, std::chrono::steady_clock::duration age, bool is_first);

 private:
  /// Limits and signal mask, as text.
  std::string limits() const;

  const Process& process_;
  const bool is_php_;
  const ChildList children_;
  const int priority_;
  const std::string limits_;
  std::uint64_t runs_looked_at_ = 0;
  std::chrono::steady_clock::time_point looked_at_{};
  bool has_answered_ = false;       ///< Its first run is over.
  std::vector<pid_t> own_;          ///< Processes that belong to the program.
  std::vector<pid_t> own_senders_;  ///< Of those and it, that have answered.
};

}  // namespace porter::run
