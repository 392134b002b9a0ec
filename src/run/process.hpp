// Processes: the one place where they are made, and how they are ended.
//
// A new process shares the server's memory until it has become the other program (as with vfork), so starting one costs
// the same however large the server is. It leads a process group of its own, so that it can be ended with all that it
// started, and it inherits nothing but what it is given.
#pragma once

#include <sys/resource.h>
#include <sys/types.h>

#include <chrono>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <variant>
#include <vector>

#include "core/files/descriptor.hpp"
#include "core/script/environment.hpp"
#include "run/fresh/kin.hpp"

namespace porter::run {

/// A bound on what the program may use, as for setrlimit(2).
struct ResourceLimit {
  int resource;
  rlimit limit;
};

/// What to start, and with what.
struct StartOrder {
  std::string program;                  ///< The path of the file to execute.
  std::vector<std::string> arguments;   ///< argv, argv[0] included.
  script::Environment environment;      ///< Nothing else is passed on.
  std::string folder;                   ///< The working directory.
  int input = -1;                       ///< Becomes standard input; -1: /dev/null.
  int output = -1;                      ///< Becomes standard output; -1: /dev/null.
  int error = -1;                       ///< Becomes the error stream; -1: /dev/null.
  std::vector<ResourceLimit> limits{};  ///< Set before the program begins.
  /// A further descriptor, and the number above 2 that it has in the program.
  std::optional<std::pair<int, int>> also{};
  enum class Leads {
    group,   ///< A process group. It is killed when the thread that has started it ends.
    session  ///< A session, and no terminal has a hold on it. It outlives whoever has started it.
  } leads = Leads::group;
  bool leaves_running = false;  ///< What it leaves running lives on, until end_all_kin().
};

/// Why a program could not be started.
struct StartError {
  enum class Step { resources, folder, execute } step;
  int number;  ///< errno
};

/// True if there are descriptors for another process and all that belongs to it, and a few are left for files then.
bool has_descriptors_for_one();

/// Starts a program, and gives the number of its process, which is that of its process group too. Blocks for the few
/// hundred microseconds until it has begun, or has failed to.
std::variant<pid_t, StartError> start_process(StartOrder order);
/// Starts a program and waits for its end; its exit status, or nullopt if it could not be started or was ended.
std::optional<int> run_to_its_end(StartOrder order);
/// Makes a process that goes on in this program with `life`, which never returns and must neither allocate nor lock if
/// there are other threads. Its number, or -1.
pid_t fork_process(void (*life)(void*), void* argument);
/// Waits for the end of a child of this process, and reaps it.
void wait_and_reap(pid_t id);

/// How a process has ended.
struct ProcessEnd {
  std::optional<int> exit_status;  ///< It ended by itself.
  std::optional<int> signal;       ///< It was ended by one.
  std::chrono::microseconds duration{0};
  std::chrono::microseconds processor_time{0};
  long peak_memory_kib = 0;
};

/// A process with all its kin, from its start until it has been reaped. For use by one thread.
class Process {
 public:
  using Clock = std::chrono::steady_clock;

  static std::variant<std::unique_ptr<Process>, StartError> start(StartOrder order);
  /// Ends hard what has not ended.
  ~Process();
  Process(const Process&) = delete;
  Process& operator=(const Process&) = delete;

  pid_t id() const { return id_; }
  /// Whether it has a processor, or waits for nothing but one (proc(5)).
  bool is_computing() const;
  /// The processor time that it has used so far; nullopt: that cannot be told.
  std::optional<std::chrono::nanoseconds> processor_time() const;
  /// Bytes of addresses that it takes; 0: that cannot be told.
  std::size_t address_space() const;
  /// Those of its kin that have lost their parents.
  std::vector<pid_t> orphans() const { return kin_.orphans(); }
  Clock::time_point begun() const { return begun_; }
  /// Asks it and its kin to end (SIGTERM); look() ends them after `grace` (SIGKILL) if it is still there.
  void terminate(Clock::duration grace = std::chrono::seconds(2));
  /// Ends it and its kin (SIGKILL).
  void kill();
  bool is_terminating() const { return kill_time_ != Clock::time_point::max(); }
  /// Does what is due at `now`, and tells when to look again; max: there is nothing to be done at any time.
  Clock::time_point look(Clock::time_point now);
  /// True: it has ended, and has been reaped.
  bool reap();
  bool has_ended() const { return end_.has_value(); }
  /// Requires that it has ended.
  const ProcessEnd& end() const { return *end_; }
  /// What it left running and was ended with it: "sleep 97 (process 812)". Once it has ended.
  const std::vector<std::string>& left_running() const { return left_running_; }
  /// A descriptor that can be read once it has ended; not open: there is none to be had now.
  files::Descriptor watch() const;

 private:
  Process() = default;
  /// To it and its kin, or to it alone where what it leaves running lives on.
  void send(int signal) const;

  /// Notes what it leaves running, before it is reaped.
  void note_what_is_left();

  bool leaves_running_ = false;
  std::vector<std::string> left_running_;
  Kin kin_;
  pid_t id_ = 0;
  clockid_t clock_ = 0;  ///< Of its processor time; 0: there is none.
  Clock::time_point begun_ = Clock::now();
  Clock::time_point kill_time_ = Clock::time_point::max();
  std::optional<ProcessEnd> end_;
};

}  // namespace porter::run
