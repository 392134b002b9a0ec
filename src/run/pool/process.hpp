// A persistent interpreter: a process that speaks FastCGI and answers one run after another (FastCGI 1.0 specification,
// section 2.2: its standard input is a socket that it accepts connections at).
//
// Each has a socket of its own, so it is known whose connection is whose, and which process a request is in. Nobody
// else can reach it: the socket's name is taken away as soon as it has one, and nothing is left of it whatever happens.
//
// One thread has it at a time; its pool sees to that.
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
#include "run/fastcgi/run.hpp"
#include "run/pool/memory.hpp"
#include "run/pool/order.hpp"
#include "run/pool/traces.hpp"
#include "run/process.hpp"
#include "run/work_share.hpp"

namespace porter::run {

class PoolPeer;

class PooledProcess {
 public:
  /// Starts one. `folder` is where its socket is for a moment. Blocks as start_process() does.
  static std::variant<std::unique_ptr<PooledProcess>, StartError> start(const PoolOrder& order,
                                                                        const std::string& folder);
  ~PooledProcess() { uncount_memory(); }
  PooledProcess(const PooledProcess&) = delete;
  PooledProcess& operator=(const PooledProcess&) = delete;

  /// From here on its connection is used on the thread of `executor`. Nobody else uses it meanwhile.
  void attach(const asio::any_io_executor& executor);

  /// Makes sure that there is a connection, on which the next request may be sent: 0, or an errno.
  int connect();
  /// The connection, once there is one and the process is attached.
  asio::posix::stream_descriptor& connection() { return *connection_; }
  /// True if the next request may be sent on the connection that there is.
  bool is_connected();
  /// What comes next is sent on another connection.
  void disconnect();

  /// The number of the next request on its connection.
  std::uint16_t next_request();

  /// Asks it to end (SIGTERM), and ends it (SIGKILL) by a look() a moment later. For one without work: in the middle of
  /// a run PHP takes the request for a reason to wake up and go on.
  void terminate();
  /// Does what is due at `now`; when to look again.
  Clock::time_point look(Clock::time_point now) { return process_->look(now); }

  /// What it has written to its own error stream, which is not the one of a request, since this was asked last.
  std::string take_error_text() {
    read_streams();
    return error_text_.take();
  }
  /// What it has printed since this was asked last, past the responses.
  std::string take_output_text() {
    read_streams();
    return output_text_.take();
  }
  /// Nothing that was read of its streams is left to be taken.
  bool has_nothing_to_tell() const { return error_text_.is_empty() && output_text_.is_empty(); }
  /// Takes off its streams what it has written there. False: nothing. Mostly that is one system call.
  bool read_streams();

  Process& process() { return *process_; }
  pid_t id() const { return process_->id(); }
  Clock::time_point begun() const { return process_->begun(); }
  Traces& traces() { return *traces_; }
  bool has_ended() const { return process_->has_ended(); }
  /// Its memory counts in `memory` until it ends or is told to.
  void count_in(const std::shared_ptr<PoolMemory>& memory) {
    memory_ = memory;
    memory_->add(process_->id());
  }
  /// The processor time that it has used since this was asked last; nothing, if some of it was skipped since.
  std::chrono::nanoseconds processor_time_since_last();
  void skip_processor_time() { last_processor_time_.reset(); }
  /// True if it has grown so far that it will not last much longer.
  bool is_near_its_limit() const;

  std::uint64_t runs = 0;                  ///< That it was given.
  bool reads_before_it_answers = false;    ///< As of the last run's first word.
  std::optional<std::vector<pid_t>> left;  ///< What the last run has left running, once that was looked for.
  std::uint64_t generation = 0;            ///< Of the files that it was started from.
  std::shared_ptr<char[]> read_ahead;      ///< Room for what comes over the connection, as FastCgiPeer tells.
  bool is_counted = true;                  ///< Among those of its pool.
  // Guarded by the lock of its pool.
  Clock::time_point idle_since{};
  WorkShare work;                ///< As of the looks at those that are at work.
  std::weak_ptr<PoolPeer> user;  ///< What has it for a run.

 private:
  PooledProcess() = default;
  void uncount_memory() {
    if (memory_) memory_->remove(process_->id());
  }

  std::unique_ptr<Process> process_;
  std::optional<Traces> traces_;
  std::shared_ptr<PoolMemory> memory_;
  std::size_t address_space_ = 0;
  bool keeps_connection_ = false;  ///< As it is asked to; not all that speak FastCGI do.
  bool is_php_ = false;
  std::uint16_t last_request_ = 0;  ///< The number of the last one on its connection.
  files::Descriptor listener_;      ///< The socket's place in the file system, to connect to.
  files::Descriptor socket_;        ///< Until there is a first connection, so that one can be made in any case.
  files::Descriptor error_;
  files::Descriptor output_;  ///< Not open: what it prints goes to its error stream.
  std::optional<asio::posix::stream_descriptor> connection_;
  ErrorText error_text_{64 * 1024};
  ErrorText output_text_{4 * 1024 * 1024};
  std::optional<std::chrono::nanoseconds> last_processor_time_{0};
};

}  // namespace porter::run
