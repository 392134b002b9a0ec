// Where a script's response comes from: a process made for it alone (run/fresh/run.hpp), or whatever else can be
// written to and read from in its place (run/fastcgi/run.hpp).
//
// It belongs to one io_context with one thread, and all its functions are called there. It may be let go of at any
// time, also before it has ended.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <chrono>
#include <cstddef>
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "core/findings/finding.hpp"
#include "run/event.hpp"
#include "run/pieces.hpp"
#include "run/process.hpp"

namespace porter::run {

class ScriptSource {
 public:
  virtual ~ScriptSource() = default;

  /// Waits for output and puts it into `buffer`. 0: the script has closed its output, or has ended and all that it
  /// wrote was read.
  virtual asio::awaitable<std::size_t> read(std::span<char> buffer) = 0;
  /// As read(), but waits only until `time`; nullopt: nothing has come by then.
  virtual asio::awaitable<std::optional<std::size_t>> read_by(std::span<char> buffer, Clock::time_point time) = 0;
  /// As read(), but adds what has come to `pieces`, where there is room. It lies in `space` or wherever the source has
  /// it, until it is read from again.
  virtual asio::awaitable<void> read_pieces(std::span<char> space, Pieces& pieces) {
    const std::size_t got = co_await read(space);
    pieces.add({space.data(), got});
  }
  /// Bytes of the output that lie here: so many at least can be read without waiting.
  virtual std::size_t at_hand() const { return 0; }
  /// Hands all of `data` to the script as input. False: it does not read any more.
  virtual asio::awaitable<bool> write(std::string_view data) = 0;
  /// Shows the script the end of its input.
  virtual void close_input() = 0;

  /// Ends the run, gently first.
  virtual void stop() = 0;
  /// Nobody reads any more: there is nothing more to be read here, and the script is told so by its next write. It goes
  /// on until it ends or its deadline comes.
  virtual void client_left() = 0;
  /// Ends it at `time` unless it has ended or the deadline is moved before; was_too_slow() tells afterwards.
  virtual void set_deadline(Clock::time_point time) = 0;
  virtual bool was_too_slow() const = 0;
  /// Calls `then` once the run has lasted longer than most do, unless it ends before.
  virtual void when_long(std::function<void()> then) = 0;

  /// Its response has begun. Once it has lasted for a second it only streams, and gives back its slot at the gate; one
  /// that `is_stream` by its own word does so at once.
  virtual void response_has_begun(bool is_stream) = 0;

  /// Waits until it has ended and its error stream is read. What is not known of the end is left out.
  virtual asio::awaitable<ProcessEnd> end() = 0;
  /// Waits for the end, but only until `time`. True: it has ended.
  virtual asio::awaitable<bool> ended_by(Clock::time_point time) = 0;
  virtual bool has_ended() const = 0;

  /// The processor time that it has used, if it is computing at this moment; nullopt: it waits for something, has
  /// ended, or this cannot be told.
  virtual std::optional<std::chrono::nanoseconds> work_so_far() { return std::nullopt; }

  /// What has kept the script's response from arriving, if that is no doing of the script's own; once it has ended.
  virtual const std::optional<Finding>& failure() const {
    static const std::optional<Finding> kNone;
    return kNone;
  }

  /// What the script left running and was ended with it, for people; once it has ended.
  virtual const std::vector<std::string>& left_running() const = 0;

  /// True if something was written to the error stream by now.
  virtual bool has_written_errors() = 0;
  /// The last part of what was written to the error stream, as far as it was read.
  virtual const std::string& error_text() const = 0;
};

}  // namespace porter::run
