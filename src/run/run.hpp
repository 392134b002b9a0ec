// A run: one execution of a script, from its start to the end of every process that it leaves behind.
//
// A Run belongs to one io_context with one thread, and all its functions are called there. It keeps itself alive until
// its process has ended and been reaped, so whoever started it may let go of it at any time.
#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <boost/asio/posix/stream_descriptor.hpp>
#include <boost/asio/steady_timer.hpp>
#include <chrono>
#include <cstddef>
#include <memory>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "core/files/descriptor.hpp"
#include "run/event.hpp"
#include "run/start.hpp"

namespace porter::run {

class Run;

/// The runs of one thread that have not ended, so that a stopping server can end them.
class RunSet {
 public:
  /// Ends every run: SIGTERM at once, SIGKILL a little later.
  void terminate_all();
  std::size_t size() const { return runs_.size(); }

 private:
  friend class Run;
  std::set<Run*> runs_;
};

/// Where a script's standard input comes from.
enum class InputKind { nothing, pipe, file };

struct RunOrder {
  std::string program;
  std::vector<std::string> arguments;
  std::vector<std::string> environment;
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
  /// What can be read of the output without waiting; 0: it has ended, nullopt: nothing is there yet.
  std::optional<std::size_t> read_now(std::span<char> buffer);
  /// Waits until there is something to read, but only until `time`.
  asio::awaitable<void> readable_by(Clock::time_point time);
  /// Hands all of `data` to the script's standard input. False: it does not read any more.
  asio::awaitable<bool> write(std::string_view data);
  /// Shows the script the end of its input.
  void close_input();

  /// Ends the run at `time` unless it has ended or the deadline is moved before; was_too_slow() tells afterwards.
  void set_deadline(std::chrono::steady_clock::time_point time);
  bool was_too_slow() const { return was_too_slow_; }

  /// Ends the process group: SIGTERM now, SIGKILL two seconds later if it is still there.
  void terminate();
  /// Waits until the process has ended and its error stream is read.
  asio::awaitable<RunEnd> end();
  bool has_ended() const { return ended_.is_set(); }
  /// Waits for the end, but only until `time`. True: it has ended.
  asio::awaitable<bool> ended_by(Clock::time_point time);

  /// The last part of what was written to the error stream so far.
  const std::string& error_text() const { return error_text_; }

 private:
  Run(const asio::any_io_executor& executor, RunSet& set, Process process, std::size_t error_stream_limit,
      std::shared_ptr<void> ticket);

  asio::awaitable<void> watch_end();
  asio::awaitable<void> collect_error_stream();
  asio::awaitable<void> enforce_deadline();
  asio::awaitable<void> escalate();

  RunSet& set_;
  pid_t id_;
  std::chrono::steady_clock::time_point begun_;
  std::size_t error_stream_limit_;
  asio::posix::stream_descriptor handle_;
  asio::posix::stream_descriptor input_;
  asio::posix::stream_descriptor output_;
  asio::posix::stream_descriptor error_;
  asio::steady_timer deadline_;
  asio::steady_timer escalation_;
  bool deadline_watched_ = false;
  bool was_too_slow_ = false;
  bool terminating_ = false;
  Event ended_;
  Event error_stream_read_;
  RunEnd end_;
  std::string error_text_;
  std::shared_ptr<void> ticket_;
};

}  // namespace porter::run
