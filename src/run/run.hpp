// A run: one execution of a script, from its start to the end of every process that it leaves behind.
//
// A Run belongs to one io_context with one thread, and all its functions are called there. Its RunSet keeps it alive
// until its process has ended and been reaped, so whoever started it may let go of it at any time.
//
// Most runs are over in a few milliseconds, and the end of their output tells of their own end. So only a run that has
// lasted longer has its error stream and its process watched: that costs as much as all else the server does for it.
#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <boost/asio/posix/stream_descriptor.hpp>
#include <boost/asio/steady_timer.hpp>
#include <chrono>
#include <cstddef>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "core/files/descriptor.hpp"
#include "run/event.hpp"
#include "run/kin.hpp"
#include "run/start.hpp"

namespace porter::run {

class Run;

/// The runs of one thread that have not ended: it keeps them alive, watches their times with one timer for all of them,
/// and can end them when a server stops.
class RunSet {
 public:
  explicit RunSet(const asio::any_io_executor& executor) : timer_(executor) {}

  /// Ends every run: SIGTERM at once, SIGKILL a little later.
  void terminate_all();
  std::size_t size() const { return runs_.size(); }

 private:
  friend class Run;

  void add(std::shared_ptr<Run> run);
  void remove(const Run& run);
  /// Has orphans of runs looked for at `time`, if there may be any.
  void look_for_orphans();
  /// Has every run look at its times at `time`, if that is not to happen before.
  void look_by(Clock::time_point time);
  void look();

  std::vector<std::shared_ptr<Run>> runs_;
  asio::steady_timer timer_;
  Clock::time_point next_look_ = Clock::time_point::max();
  Clock::time_point orphans_look_ = Clock::time_point::max();  ///< When to look for orphans again.
};

/// Where a script's standard input comes from.
enum class InputKind { nothing, pipe, file };

struct RunOrder {
  std::string program;
  std::vector<std::string> arguments;
  script::Environment environment;
  std::string folder;
  InputKind input = InputKind::nothing;
  files::Descriptor input_file;                ///< For InputKind::file.
  std::size_t error_stream_limit = 64 * 1024;  ///< Bytes kept of the error stream: its end.
  std::vector<ResourceLimit> limits;
  std::shared_ptr<void> ticket;  ///< Let go of when the run has ended.
};

/// How a run's process ended.
struct RunEnd {
  int exit_status = 0;
  int signal = 0;  ///< 0: it ended by itself.
  std::chrono::milliseconds duration{0};
  long peak_memory_kib = 0;
};

class Run : public std::enable_shared_from_this<Run> {
 public:
  /// Starts the script. It is a member of `set` until it has ended; `set` must outlive it.
  static std::variant<std::shared_ptr<Run>, StartError> start(const asio::any_io_executor& executor, RunSet& set,
                                                              RunOrder order);
  ~Run();
  Run(const Run&) = delete;
  Run& operator=(const Run&) = delete;

  /// Waits for output and puts it into `buffer`. 0: the script has closed its output, or has ended and all that it
  /// wrote was read.
  asio::awaitable<std::size_t> read(std::span<char> buffer);
  /// As read(), but waits only until `time`; nullopt: nothing has come by then.
  asio::awaitable<std::optional<std::size_t>> read_by(std::span<char> buffer, Clock::time_point time);
  /// Hands all of `data` to the script's standard input. False: it does not read any more.
  asio::awaitable<bool> write(std::string_view data);
  /// Shows the script the end of its input.
  void close_input();

  /// Calls `then` once the run has lasted longer than most do, unless it ends before.
  void when_long(std::function<void()> then);
  /// Ends the run at `time` unless it has ended or the deadline is moved before; was_too_slow() tells afterwards.
  void set_deadline(Clock::time_point time);
  bool was_too_slow() const { return was_too_slow_; }

  /// Ends the process and all its kin: SIGTERM now, SIGKILL two seconds later if it is still there.
  void terminate();
  /// Waits until the process has ended and its error stream is read.
  asio::awaitable<RunEnd> end();
  bool has_ended() const { return ended_.is_set(); }
  /// Waits for the end, but only until `time`. True: it has ended.
  asio::awaitable<bool> ended_by(Clock::time_point time);

  /// The last part of what was written to the error stream so far.
  const std::string& error_text() const { return error_text_; }

 private:
  friend class RunSet;

  /// What is watched of a run that lasts.
  struct Watched {
    asio::posix::stream_descriptor process;  ///< A pidfd.
    asio::posix::stream_descriptor error;    ///< The error stream, by a descriptor of its own.
  };

  Run(const asio::any_io_executor& executor, RunSet& set, pid_t id, std::unique_ptr<Kin> kin, RunOrder& order);

  /// What can be read of the output without waiting; nullopt: nothing is there yet.
  std::optional<std::size_t> read_now(std::span<char> buffer);
  /// Looks at its times, and returns when to do so again.
  Clock::time_point look(Clock::time_point now);
  /// Has the end of the process and the error stream watched from now on.
  void watch();
  void await_end();
  void await_error_text();
  /// Takes in what stands in the error stream. False: it has been closed.
  bool read_error_stream();
  /// True: the process has ended, and has been reaped.
  bool reap();
  /// Its output has ended, and mostly so has its process.
  void output_is_over();

  RunSet& set_;
  std::unique_ptr<Kin> kin_;
  pid_t id_;
  Clock::time_point begun_ = Clock::now();
  std::size_t error_stream_limit_;
  asio::posix::stream_descriptor input_;
  asio::posix::stream_descriptor output_;
  files::Descriptor error_;
  std::optional<Watched> watched_;
  asio::steady_timer patience_;
  Clock::time_point deadline_ = Clock::time_point::max();
  Clock::time_point kill_time_ = Clock::time_point::max();
  std::function<void()> when_long_;
  bool was_too_slow_ = false;
  Event ended_;
  RunEnd end_;
  std::string error_text_;
  std::shared_ptr<void> ticket_;
};

}  // namespace porter::run
