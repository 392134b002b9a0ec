// What the system shows of processes (proc(5)).
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/files/descriptor.hpp"

namespace porter::run {

/// What the file `name` in the folder of the process `id` holds; empty if it cannot be read.
std::string proc_content(pid_t id, const std::string& name);

/// Adds to `out` the numbers in `list`, what a list of children holds.
void read_children(std::string_view list, std::vector<pid_t>& out);

/// The children of a process's first thread, for who asks often: zombies included. Empty where the system keeps no
/// such lists.
class ChildList {
 public:
  explicit ChildList(pid_t process);

  /// The first few hundred of them. A system call.
  std::vector<pid_t> read() const;

 private:
  files::Descriptor file_;
};

/// What /proc/PID/stat tells of a process.
struct ProcessState {
  char state = 0;  ///< 'R': it has a processor, or waits for nothing but one. 'Z': it has ended and was not reaped.
  pid_t parent = 0;
  int niceness = 0;
  std::uint64_t begun = 0;    ///< Clock ticks since the machine started.
  std::uint64_t blocked = 0;  ///< Its signal mask.
  std::uint64_t caught = 0;   ///< Mask of the signals that it catches.
};

/// nullopt: there is no such process.
std::optional<ProcessState> state_of(pid_t id);

/// The libraries that the process `id` has loaded, but for those of the system (/usr, /lib).
std::vector<std::string> mapped_programs(pid_t id);

/// The process `id` for people, "sleep 97 (process 812)"; empty if it has ended.
std::string process_text(pid_t id);

}  // namespace porter::run
