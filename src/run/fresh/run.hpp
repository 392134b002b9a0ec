// A run in a process of its own: one execution of a script, from its start to the end of every process that it leaves
// behind.
//
// Its RunSet keeps it alive until its process has ended and been reaped, so whoever started it may let go of it at any
// time.
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
#include "run/alarm.hpp"
#include "run/error_text.hpp"
#include "run/event.hpp"
#include "run/gate.hpp"
#include "run/process.hpp"
#include "run/script_source.hpp"

namespace porter::run {

/// A run that has lasted longer than this is watched more closely.
inline constexpr std::chrono::milliseconds kShortRun{20};
/// A run whose response has begun and that has lasted this long only streams.
inline constexpr std::chrono::seconds kStreamsAfter{1};

/// A source whose times its set looks at.
class TimedSource : public ScriptSource {
 private:
  friend class RunSet;
  /// Does what is due at `now`, and returns when to do so again.
  virtual Clock::time_point look(Clock::time_point now) = 0;
};

/// The runs of one thread that have not ended: it keeps them alive, watches their times with one timer for all of them,
/// and can end them when a server stops.
class RunSet {
 public:
  explicit RunSet(const asio::any_io_executor& executor) : alarm_(executor) {}

  /// Ends every run: SIGTERM at once, SIGKILL a little later.
  void terminate_all();
  std::size_t size() const { return runs_.size(); }

  /// Keeps a run that has begun alive until it is removed, and looks at its times from kShortRun on.
  void add(std::shared_ptr<TimedSource> run);
  void remove(const TimedSource& run);
  /// Has orphans of runs looked for by then, if there may be any.
  void look_for_orphans(Clock::duration after);
  /// Has every run look at its times at `time`, if that is not to happen before.
  void look_by(Clock::time_point time);

 private:
  void look();

  std::vector<std::shared_ptr<TimedSource>> runs_;
  Alarm alarm_;
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
  bool leaves_running = false;  ///< As in StartOrder.
  Gate::Ticket ticket;          ///< Let go of when the run has ended; null: nobody counts it.
};

/// Made by start() alone. As of any source, all is called on the thread of its RunSet.
class Run : public TimedSource, public std::enable_shared_from_this<Run> {
 public:
  /// Starts the script. It is a member of `set` until it has ended; `set` must outlive it.
  static std::variant<std::shared_ptr<Run>, StartError> start(const asio::any_io_executor& executor, RunSet& set,
                                                              RunOrder order);
  Run(const Run&) = delete;
  Run& operator=(const Run&) = delete;

  asio::awaitable<std::size_t> read(std::span<char> buffer) override;
  asio::awaitable<std::optional<std::size_t>> read_by(std::span<char> buffer, Clock::time_point time) override;
  asio::awaitable<bool> write(std::string_view data) override;
  void close_input() override;
  /// SIGTERM to the process and all its kin now, SIGKILL two seconds later if it is still there.
  void stop() override;
  void client_left() override;
  const std::vector<std::string>& left_running() const override { return process_->left_running(); }
  void set_deadline(Clock::time_point time) override;
  bool was_too_slow() const override { return was_too_slow_; }
  void when_long(std::function<void()> then) override;
  void response_has_begun(bool is_stream) override;
  asio::awaitable<ProcessEnd> end() override;
  asio::awaitable<bool> ended_by(Clock::time_point time) override;
  bool has_ended() const override { return ended_.is_set(); }
  std::optional<std::chrono::nanoseconds> work_so_far() override;
  bool has_written_errors() override;
  const std::string& error_text() const override { return error_text_.text(); }

 private:
  /// What is watched of a run that lasts.
  struct Watched {
    asio::posix::stream_descriptor process;  ///< A pidfd.
    asio::posix::stream_descriptor error;    ///< The error stream, by a descriptor of its own.
  };

  Run(const asio::any_io_executor& executor, RunSet& set, std::unique_ptr<Process> process, RunOrder& order);

  /// What can be read of the output without waiting; nullopt: nothing is there yet.
  std::optional<std::size_t> read_now(std::span<char> buffer);
  Clock::time_point look(Clock::time_point now) override;
  /// Has the end of the process and the error stream watched from now on.
  void watch();
  void await_end();
  void await_error_text();
  /// True: the process has ended, and has been reaped.
  bool reap();
  /// Its output has ended, and mostly so has its process.
  void output_is_over();

  RunSet& set_;
  std::unique_ptr<Process> process_;
  asio::posix::stream_descriptor input_;
  asio::posix::stream_descriptor output_;
  files::Descriptor error_;
  std::optional<Watched> watched_;
  asio::steady_timer patience_;
  Clock::time_point deadline_ = Clock::time_point::max();
  std::function<void()> when_long_;
  bool was_too_slow_ = false;
  Event ended_;
  ErrorText error_text_;
  Gate::Ticket ticket_;
  Clock::time_point streams_at_ = Clock::time_point::max();  ///< When its slot is given back.
};

}  // namespace porter::run
