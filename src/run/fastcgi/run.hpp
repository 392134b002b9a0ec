// A run over a FastCGI connection: one request that a program answers which is there for many.
//
// To whoever reads its response it is what a process of its own would be (run/script_source.hpp). What differs: its end
// is told by the program in place of the system, so an exit status is known only if the program gives one; and a
// program that is to be stopped ends with it.
//
// What the program writes is taken off it as it comes, whether or not anybody waits for that (output.hpp): it is free
// for the next request as soon as its word that it has ended is read.
#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <chrono>
#include <cstddef>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "core/fastcgi/records.hpp"
#include "core/findings/finding.hpp"
#include "run/error_text.hpp"
#include "run/fastcgi/input.hpp"
#include "run/fastcgi/output.hpp"
#include "run/fastcgi/peer.hpp"
#include "run/fresh/run.hpp"

namespace porter::run {

class FastCgiRun : public TimedSource, public std::enable_shared_from_this<FastCgiRun> {
 public:
  struct Order {
    /// The records that begin it, composed while it waits, so that who is free needs only be told its number. With the
    /// end of its input, if that is nothing.
    std::string request;
    InputKind input = InputKind::nothing;
    files::Descriptor input_file{};              ///< For InputKind::file.
    std::size_t error_stream_limit = 64 * 1024;  ///< Bytes kept of the error stream: its end.
    std::size_t processor_time = 0;              ///< Seconds that it may compute; 0: any.
    bool is_measured = true;                     ///< Somebody wants to know the processor time that it has used.
    /// Where to find another, should the peer end by itself before it has answered anything; null: nowhere.
    std::shared_ptr<FastCgiPeers> others{};
    Gate::Ticket ticket{};  ///< Let go of when the run has ended; null: its slot is the peer itself.
    /// What of `request` the peer was sent already, and as which request.
    struct Sent {
      std::uint16_t request;
      std::size_t bytes;
    };
    std::optional<Sent> sent{};
  };

  /// Hands the request to `peer`. Null: whoever stands there had gone before it was read, and nothing has happened, nor
  /// been taken out of `order`. It is a member of `set` until it has ended; `set` must outlive it.
  static std::shared_ptr<FastCgiRun> begin(const asio::any_io_executor& executor, RunSet& set,
                                           const std::shared_ptr<FastCgiPeer>& peer, Order& order);
  ~FastCgiRun() override;
  FastCgiRun(const FastCgiRun&) = delete;
  FastCgiRun& operator=(const FastCgiRun&) = delete;

  /// Calls `note` once it has lasted longer than most do: from then on it counts among all runs.
  void note_if_long(std::function<Gate::Ticket()> note);

  asio::awaitable<std::size_t> read(std::span<char> buffer) override;
  asio::awaitable<std::optional<std::size_t>> read_by(std::span<char> buffer, Clock::time_point time) override;
  asio::awaitable<void> read_pieces(std::span<char> space, Pieces& pieces) override;
  std::size_t at_hand() const override { return output_.size(); }
  asio::awaitable<bool> write(std::string_view data) override;
  void close_input() override { input_.close(weak_from_this()); }
  /// Lets it come to its end for a moment, and ends what answers then.
  void stop() override;
  void client_left() override;
  const std::vector<std::string>& left_running() const override { return left_running_; }
  void set_deadline(Clock::time_point time) override;
  bool was_too_slow() const override { return why_ended_ == Why::too_slow; }
  void when_long(std::function<void()> then) override;
  void response_has_begun(bool is_stream) override;
  asio::awaitable<ProcessEnd> end() override;
  asio::awaitable<bool> ended_by(Clock::time_point time) override;
  bool has_ended() const override { return ended_.is_set(); }
  std::optional<std::chrono::nanoseconds> work_so_far() override;
  bool has_written_errors() override;
  const std::string& error_text() const override { return error_text_.text(); }
  const std::optional<Finding>& failure() const override { return failure_; }

 private:
  /// What only begin() can give, since std::make_shared() reaches no private constructor.
  struct Begun {
    explicit Begun() = default;
  };

 public:
  FastCgiRun(Begun, const asio::any_io_executor& executor, RunSet& set, std::shared_ptr<FastCgiPeer> peer,
             Order& order);

 private:
  /// At work; at work for nobody, until its program closes the connection; its connection has ended without a word, so
  /// that its process is about to; waiting for another peer, since the one before has not read it; over, and the peer
  /// given back.
  enum class State { at_work, unread, cut, between, over };
  /// Why it is ended by us.
  enum class Why { not_at_all, stopped, too_slow, computed_too_long, failed };

  Clock::time_point look(Clock::time_point now) override;
  Clock::time_point look_at_times(Clock::time_point now);
  void look_at_processor_time(Clock::time_point now);
  /// The bound for all runs holds for those as well that only stream.
  void gives_slot_back();
  asio::awaitable<void> feed_file(files::Descriptor file);

  /// Has what comes next over the connection read.
  void await_output();
  /// Reads it, as much as is there, and takes it in.
  void read_output();
  /// Reads once. What recvmsg() gives, with errno. What copies of the process have sent is taken in at once.
  ssize_t receive();
  /// Takes in what was read.
  void take_in();
  /// Takes in `bytes` of the process `sender`, a copy of the one that answers: what it writes belongs to the page, and
  /// its word that the request has ended says nothing.
  void take_in_of_copy(pid_t sender, std::string_view bytes);
  void take_in(const fastcgi::ResponseReader::Part& part);
  /// There is room for more output, which was not read for lack of that.
  void go_on_reading();
  void take_error_text();
  /// Something of the response has come.
  void note_answer();
  /// What its script has printed past the response follows it: where in the page it was meant to be is not known.
  void add_printed_text();

  /// It has come to its end by its own word.
  void finish();
  /// The connection has ended without that word; `is_unread`: with something in it that nobody has read.
  void was_cut(bool is_unread);
  void process_ended();
  /// What was sent is no response to the request.
  void fail(Finding finding);
  /// Has it end for a reason that comes from here, the first of which counts.
  void end_for(Why why);
  void terminate();
  /// True if the request was not read, and another peer may be asked.
  bool may_begin_again() const;
  /// Asks for another peer.
  void begin_again();
  /// Hands the request to `next`; null: there is none.
  void go_on_with(const std::shared_ptr<FastCgiPeer>& next);
  /// Makes up what is known of an end that was not told, and is over.
  void settle();
  void over(FastCgiPeer::Reusable reusable);
  /// What follows once nobody has the request any more.
  void end_of_run();
  void watch_peer();

  RunSet& set_;
  asio::any_io_executor executor_;
  std::shared_ptr<FastCgiPeer> peer_;  ///< Null between two, and once it was given back.
  State state_ = State::at_work;
  Why why_ended_ = Why::not_at_all;
  fastcgi::ResponseReader reader_;
  FastCgiInput input_;
  HeldOutput output_;
  std::string_view unread_;  ///< Of what was received, in the peer's memory.
  /// A script may have made copies of its process (fork), which write to the same connection.
  struct Copy {
    pid_t id;
    fastcgi::ResponseReader reader;
    std::string unread{};
    bool has_ended = false;
  };
  std::vector<Copy> copies_;
  std::size_t used_ = 0;  ///< Bytes of that in which something was received that is held.
  bool is_waiting_for_room_ = false;
  int attempts_ = 0;           ///< To go on with another peer.
  bool has_answered_ = false;  ///< Anything at all.
  bool is_unread_ = false;     ///< Its connection was closed before all of the request was read.
  bool is_left_ = false;       ///< Nobody reads what it writes.
  bool is_lost_ = false;       ///< There was no memory for what was read.
  ErrorText error_text_;
  std::optional<Finding> failure_;
  ProcessEnd end_;
  std::vector<std::string> left_running_;
  Event ended_;
  std::function<void()> when_long_;
  std::function<Gate::Ticket()> note_long_;
  std::shared_ptr<FastCgiPeers> others_;
  const bool is_measured_;
  Gate::Ticket ticket_;
  Gate::Ticket noted_;  ///< Among all runs.
  const std::chrono::seconds processor_time_allowed_;
  const Clock::time_point begun_ = Clock::now();
  Clock::time_point deadline_ = Clock::time_point::max();
  Clock::time_point streams_at_ = Clock::time_point::max();
  Clock::time_point terminate_at_ = Clock::time_point::max();   ///< Unless it has ended by then.
  Clock::time_point computed_look_ = Clock::time_point::max();  ///< When to ask for its processor time.
  std::chrono::nanoseconds work_before_{0};
};

}  // namespace porter::run
