// A run over a FastCGI connection: one request that a program answers which is there for many.
//
// To whoever reads its answer it is what a process of its own would be (run/script_source.hpp). What differs: its end
// is told by the program in place of the system, so an exit status is known only if the program gives one; and a
// program that is to be stopped ends with it.
#pragma once

#include <array>
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

#include "core/fastcgi/records.hpp"
#include "core/findings/finding.hpp"
#include "run/error_text.hpp"
#include "run/run.hpp"

namespace porter::run {

/// What a run is answered by: a connection, and what stands behind it. It is lent to one run at a time, and all its
/// functions are called on the thread of that.
class FastCgiPeer {
 public:
  virtual ~FastCgiPeer() = default;

  /// Non-blocking, and open while a run has it.
  virtual asio::posix::stream_descriptor& connection() = 0;
  /// The number of the request on its connection, from 1 on.
  virtual std::uint16_t next_request() = 0;
  /// Where what comes over the connection is read to, kReadAhead bytes. Whoever takes it leaves another one or none.
  virtual std::unique_ptr<char[]>& read_ahead() = 0;
  static constexpr std::size_t kReadAhead = 256 * 1024;
  virtual fastcgi::Connection then() const = 0;
  /// Who answers, for a person: the program, or the address of one that others have started.
  virtual std::string name() const = 0;

  /// True if nothing was answered by it before.
  virtual bool is_first_run() const { return false; }
  /// The how-manieth run of the process this is; 0: nobody counts them.
  virtual std::uint64_t number_of_run() const { return 0; }
  /// True if it reads what its script has left of the input itself, so that its connection can be used again.
  virtual bool reads_all_input() const { return false; }
  /// True if it ends by itself only when it has no request, so that one that has come meanwhile was not read.
  virtual bool ends_between_runs() const { return false; }
  /// The process that answers; null: it is another's. It may have ended.
  virtual Process* process() { return nullptr; }
  /// Ends what answers, which has no other way to end a request.
  virtual void terminate() = 0;
  /// Does what is due at `now`; when to look again.
  virtual Clock::time_point look(Clock::time_point now) = 0;
  /// The processor time that it has used since this was asked last.
  virtual std::chrono::nanoseconds processor_time() { return {}; }
  /// Nobody asks what this run has used.
  virtual void skip_processor_time() {}
  /// What it has written aside from its answers since this was asked last.
  virtual std::string take_error_text() { return {}; }
  /// Calls `then` once the process has ended and been reaped.
  virtual void when_ended(std::function<void()> then) = 0;

  /// Of the run it is known whether it will most probably have ended in a moment. While such a one goes on, the next
  /// request may be sent already.
  virtual void begins(bool /*is_short*/) {}
  /// The run goes on for longer than most: what was sent ahead is taken back, so that others can answer it.
  virtual void lasts() {}
  /// True if the request of this run was sent ahead, whose number next_request() gives then.
  virtual bool was_sent_ahead() const { return false; }
  /// What has come of its answer meanwhile, in the memory of read_ahead(). Once.
  virtual std::string_view take_early_answer() { return {}; }
  /// True if what comes behind the run's answer is that to a request that was sent ahead. It lies in that memory.
  virtual bool takes_more(std::string_view) { return false; }

  /// The run only streams: another may take the peer's place among those that work.
  virtual void only_streams() {}
  /// The run is over, and its connection can take another one, or cannot. Called once; the run lets go of the peer.
  enum class Left { clean, spoilt };
  virtual void give_back(Left left) = 0;
};

/// Those who may answer a request.
class FastCgiPeers {
 public:
  virtual ~FastCgiPeers() = default;
  /// One that is free; null: there is none.
  virtual std::shared_ptr<FastCgiPeer> take_free() = 0;
};

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
    bool is_short = false;                       ///< It will most probably have ended in a moment.
    /// Where to find another, once, should the peer end by itself before it has read the request; null: nowhere.
    std::shared_ptr<FastCgiPeers> others{};
    Gate::Ticket ticket{};  ///< Let go of when the run has ended; null: its turn is the peer itself.
  };

  /// Hands the request to `peer`. Null: whoever stands there had gone before it was read, and nothing has happened, nor
  /// been taken out of `order`. It is a member of `set` until it has ended; `set` must outlive it.
  static std::shared_ptr<FastCgiRun> begin(const asio::any_io_executor& executor, RunSet& set,
                                           const std::shared_ptr<FastCgiPeer>& peer, Order& order);
  ~FastCgiRun() override;
  FastCgiRun(const FastCgiRun&) = delete;
  FastCgiRun& operator=(const FastCgiRun&) = delete;

  /// Calls `note` once it has lasted longer than most do: from then on it counts among all runs. What that gives is
  /// null: there are too many.
  void note_if_long(std::function<Gate::Ticket()> note);

  /// Waits for what comes first of the answer, and calls `then`: mostly that is all of it, and the run has ended. Until
  /// then nothing else may be read or waited for; leave_first() has `then` called soon.
  void await_first(std::function<void()> then);
  void leave_first();
  /// Nobody is there any more to be called.
  void forget_first() { first_then_ = nullptr; }
  /// What was read of the output by then, and not taken since.
  std::string_view first_output() const { return left_over_; }
  /// Its end, once it has ended.
  const ProcessEnd& known_end() const { return end_; }

  asio::awaitable<std::size_t> read(std::span<char> buffer) override;
  asio::awaitable<std::optional<std::size_t>> read_by(std::span<char> buffer, Clock::time_point time) override;
  asio::awaitable<void> read_pieces(std::span<char> space, Pieces& pieces) override;
  std::size_t at_hand() const override { return left_over_.size(); }
  asio::awaitable<bool> write(std::string_view data) override;
  asio::awaitable<bool> write(Passage& passage) override;
  void close_input() override;
  /// Lets it come to its end for a moment, and ends what answers then.
  void stop() override;
  void set_deadline(Clock::time_point time) override;
  bool was_too_slow() const override { return was_too_slow_; }
  void when_long(std::function<void()> then) override;
  void answer_has_begun(bool is_stream) override;
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
             const Order& order);

 private:
  Clock::time_point look(Clock::time_point now) override;
  /// Sends what is left of what is to come before the input.
  asio::awaitable<bool> flush();
  /// Sends all of them, one behind the other. False: nobody takes it any more.
  using Parts = std::array<std::string_view, 4>;
  asio::awaitable<bool> send(Parts parts);
  /// Sends the next `size` bytes in `passage`.
  asio::awaitable<bool> send(Passage& passage, std::size_t size);
  asio::awaitable<void> feed_file();
  /// Reads and drops, so that a run that is stopped can come to its end.
  asio::awaitable<void> drain();
  /// What of the answer lies here already; nullopt: there is nothing, and more may come.
  std::optional<std::size_t> take(std::span<char> buffer);
  /// Adds to `pieces` what of the output lies here. False: it does not begin with a large one, and is better copied.
  bool lend(Pieces& pieces);
  void take_part(const fastcgi::AnswerReader::Part& part, std::span<char> buffer, std::size_t& taken);
  /// Takes all of what was read to a place of its own.
  void take_first();
  /// The first of the answer has come, or the end of the connection.
  void first_has_come(const boost::system::error_code& error);
  /// Waits until there is more to be taken, or the end of it. False: nothing has come by `time`.
  asio::awaitable<bool> await_more(Clock::time_point time);
  /// The peer's memory, in which what it sends is put.
  char* read_ahead();
  /// Keeps what was lent from there, before somebody else reads into it.
  void keep_lent();
  void take_error_text();
  /// It has come to its end by its own word.
  void finish();
  /// The connection has ended without that word, with `error`.
  void was_cut(const boost::system::error_code& error);
  /// The process has ended.
  void process_ended();
  /// What was sent is no answer to the request.
  void fail(Finding finding);
  void terminate();
  /// True if the request was not read, and another peer may be asked.
  bool may_begin_again() const;
  /// Hands the request to another peer. False: there is none.
  bool begin_again();
  /// Makes up what is known of an end that was not told, and is over.
  void settle();
  void over(FastCgiPeer::Left left);
  /// What follows once nobody has the request any more.
  void end_of_run();
  /// Sends of unsent() what goes at once. False: nobody is there.
  bool send_now();
  /// Sends the rest of it as soon as there is room, while others go on.
  void flush_meanwhile();
  void watch_peer();
  /// Has whoever waits for the connection look again.
  void wake();
  bool is_connected() const { return peer_ != nullptr && !is_cut_; }
  std::string_view unsent() const { return std::string_view(text_).substr(sent_); }

  RunSet& set_;
  asio::any_io_executor executor_;
  std::shared_ptr<FastCgiPeer> peer_;  ///< Null once it was given back.
  std::uint16_t request_;
  fastcgi::AnswerReader reader_;
  std::chrono::seconds processor_time_allowed_;
  files::Descriptor input_file_;
  Clock::time_point begun_ = Clock::now();
  std::string text_;      ///< The request's beginning.
  std::size_t sent_ = 0;  ///< Bytes of it.
  enum class Input { open, closed, broken } input_ = Input::open;
  bool is_writing_ = false;
  bool is_wide_ = false;  ///< Its connection has room for much of the input.
  bool is_reading_ = false;
  bool has_output_ended_ = false;
  bool has_answered_ = false;     ///< Anything at all.
  bool is_cut_ = false;           ///< Nothing more comes over the connection.
  bool is_unread_ = false;        ///< Its connection was closed before all of the request was read.
  bool is_process_gone_ = false;  ///< Only what has arrived by now is still to be read.
  bool is_stopped_ = false;
  bool is_draining_ = false;  ///< Somebody reads it to its end for nobody.
  bool is_dropping_ = false;  ///< What is read next is for nobody.
  bool is_lost_ = false;      ///< There was no memory for what was read.
  bool was_too_slow_ = false;
  bool was_over_time_ = false;  ///< It was ended for its processor time.
  std::string_view unread_;     ///< Of what was received, in the peer's memory.
  std::string_view left_over_;  ///< Of the output, for which there was no room.
  bool is_lent_ = false;        ///< What was given last lies in the peer's memory.
  std::unique_ptr<char[]> lent_;
  std::string kept_output_;  ///< The same, once the peer is given back, or where it was the first of the answer.
  ErrorText error_text_;
  std::optional<Finding> failure_;
  ProcessEnd end_;
  Event ended_;
  asio::steady_timer patience_;
  std::function<void()> when_long_;
  std::function<void()> first_then_;
  std::function<Gate::Ticket()> note_long_;
  std::shared_ptr<FastCgiPeers> others_;
  bool is_measured_ = true;
  bool is_whole_ = false;  ///< text_ is all of the request, which may be sent again.
  Gate::Ticket ticket_;
  Gate::Ticket noted_;  ///< Among all runs.
  Clock::time_point deadline_ = Clock::time_point::max();
  Clock::time_point streams_at_ = Clock::time_point::max();
  Clock::time_point terminate_at_ = Clock::time_point::max();   ///< Unless it has ended by then.
  Clock::time_point computed_look_ = Clock::time_point::max();  ///< When to ask for its processor time.
  std::chrono::nanoseconds work_before_{0};
};

}  // namespace porter::run
