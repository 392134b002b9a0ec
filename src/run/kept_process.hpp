// A kept interpreter: a process that speaks FastCGI and answers one run after another (FastCGI 1.0 specification,
// section 2.2: its standard input is a socket that it accepts connections at).
//
// Each has a socket of its own, so it is known whose connection is whose, and which process a request is in. Nobody
// else can reach it: the socket's name is taken away as soon as it has one, and nothing is left of it whatever happens.
//
// One thread has it at a time; another may take it over once it is let go of (detach()).
#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/posix/stream_descriptor.hpp>
#include <chrono>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <variant>

#include "core/files/descriptor.hpp"
#include "run/error_text.hpp"
#include "run/event.hpp"
#include "run/fastcgi_run.hpp"
#include "run/kept_order.hpp"
#include "run/process.hpp"

namespace porter::run {

class KeptTurn;

class KeptProcess {
 public:
  /// Starts one. `folder` is where its socket is for a moment. Blocks as start_process() does.
  static std::variant<std::unique_ptr<KeptProcess>, StartError> start(const KeptOrder& order,
                                                                      const std::string& folder);
  ~KeptProcess();
  KeptProcess(const KeptProcess&) = delete;
  KeptProcess& operator=(const KeptProcess&) = delete;

  /// From here on it belongs to the thread of `executor`, and `ended` is called there once the process has ended and
  /// been reaped. 0, or an errno.
  int attach(const asio::any_io_executor& executor);
  /// The thread has no more to do with it, and another may attach it.
  void detach();

  /// Makes sure that there is a connection, on which the next request may be sent: 0, or an errno.
  int connect();
  /// The connection, once there is one and the process is attached.
  asio::posix::stream_descriptor& connection() { return *connection_; }
  /// What comes next is sent on another connection.
  void disconnect();

  /// A request that was sent while the process works at another: it goes on with it without a pause. Its answer is for
  /// whoever the process is given to next.
  bool has_ahead() const { return !ahead_.empty(); }
  /// True if it may have one, while it works at a run that `is_short`.
  bool may_have_ahead() const { return is_run_short && can_take_back_ && keeps_connection_ && !has_ahead(); }
  /// Sends a whole `request` so, and notes its number in it. False: it was not sent.
  bool send_ahead(std::string& request);
  /// Takes it back. False: the process has begun with it.
  bool take_back_ahead();
  /// The process comes to it: it is the request of the run that the process is lent for next.
  void begin_ahead();
  /// The number of such a request, 0 if there is none. Once.
  std::uint16_t take_begun() { return std::exchange(begun_, std::uint16_t{0}); }
  bool has_begun() const { return begun_ != 0; }
  /// The number of the next request on its connection.
  std::uint16_t next_request();

  /// Asks it to end (SIGTERM), and ends it (SIGKILL) by a look() a moment later. For one without work: in the middle of
  /// a run PHP takes the request for a reason to wake up and go on.
  void terminate();
  /// Does what is due at `now`; when to look again.
  Clock::time_point look(Clock::time_point now) { return process_->look(now); }

  /// What it has written to its own error stream, which is not the one of a request, since this was asked last.
  std::string take_error_text() {
    error_text_.read_from(error_.get());
    return error_text_.take();
  }

  Process& process() { return *process_; }
  bool has_ended() const { return process_->has_ended(); }
  /// The processor time that it has used since this was asked last; nothing, if some of it was skipped since.
  std::chrono::nanoseconds processor_time_since_last();
  void skip_processor_time() { last_processor_time_.reset(); }
  /// True if it has grown so far that it will not last much longer.
  bool is_near_its_limit() const;

  /// Called once it has ended, if anybody wants to know.
  std::function<void()> ended;

  std::uint64_t runs = 0;                        ///< That it was given.
  std::uint64_t generation = 0;                  ///< Of the files that it was started from.
  const Clock::time_point since = Clock::now();  ///< Its start.
  Clock::time_point idle_since{};
  Clock::time_point home_since{};       ///< When it came to its thread.
  bool is_counted = true;               ///< Among those of its pool.
  std::shared_ptr<KeptTurn> ahead_for;  ///< Whose request was sent ahead; null: nobody's who still waits.
  bool is_full_grown = false;           ///< It was near its limit.
  bool has_successor = false;           ///< One was started for when it is replaced, if that was worth it.
  bool is_run_short = false;            ///< What it works at will most probably have ended in a moment.
  std::string_view early_answer;        ///< What has come of the answer to a request sent ahead, in `read_ahead`.
  std::unique_ptr<char[]> read_ahead;   ///< Room for what comes over the connection, as FastCgiPeer tells.

 private:
  KeptProcess() = default;

  /// True if the next request may be sent on the connection that there is.
  bool is_connected();
  void await_end();
  void await_errors();

  std::unique_ptr<Process> process_;
  std::size_t address_space_ = 0;
  bool keeps_connection_ = false;  ///< As it is asked to; not all that speak FastCGI do.
  bool can_take_back_ = false;     ///< What was sent to it, and not read.
  std::string ahead_;              ///< What was sent ahead.
  bool is_php_ = false;
  std::uint16_t last_request_ = 0;  ///< The number of the last one on its connection.
  std::uint16_t begun_ = 0;         ///< Of the one that it has come to without being lent for it; 0: there is none.
  files::Descriptor listener_;      ///< The socket's place in the file system, to connect to.
  files::Descriptor socket_;        ///< Until there is a first connection, so that one can be made in any case.
  files::Descriptor error_;
  std::optional<asio::posix::stream_descriptor> connection_;
  std::optional<asio::posix::stream_descriptor> end_watch_;
  std::optional<asio::posix::stream_descriptor> error_watch_;
  files::Descriptor detached_connection_;
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);  ///< For handlers that come too late.
  ErrorText error_text_{64 * 1024};
  std::optional<std::chrono::nanoseconds> last_processor_time_{0};
};

}  // namespace porter::run
