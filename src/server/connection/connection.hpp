// A connection: one client's socket, the bytes that came over it, and the requests in them, one after the other.
//
// It lives on its worker's thread. serve() is its whole life; it reads a request head, has it answered
// (server/answer/answer.hpp), and goes on to the next until one side closes. The answering functions use the sending
// and receiving functions below.
#pragma once

#include <sys/uio.h>

#include <array>
#include <boost/asio/awaitable.hpp>
#include <boost/asio/ip/tcp.hpp>
#include <chrono>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/findings/finding.hpp"
#include "core/http/body.hpp"
#include "core/http/head.hpp"
#include "run/event.hpp"
#include "run/run.hpp"
#include "server/answer/quick_answer.hpp"
#include "server/connection/request.hpp"
#include "server/worker.hpp"

namespace porter::server {

/// What reading a request's body came to.
enum class BodyRead {
  data,       ///< Something was read.
  end,        ///< The body is complete.
  gone,       ///< The client has closed or broken the connection.
  malformed,  ///< The chunked coding is broken.
  too_large,  ///< More than the limit.
  too_slow,   ///< No progress for too long.
};

class Connection : public std::enable_shared_from_this<Connection> {
 public:
  using Clock = std::chrono::steady_clock;

  /// A connection that came in at `endpoint`.
  Connection(Worker& worker, asio::ip::tcp::socket socket, Endpoint endpoint);
  ~Connection();
  Connection(const Connection&) = delete;
  Connection& operator=(const Connection&) = delete;

  /// Serves the connection until it is closed.
  asio::awaitable<void> serve();

  /// Closes it if no request is in progress.
  void close_if_idle();
  /// Cuts it off, ending the run in progress.
  void abort();
  /// Called by the worker from time to time.
  void check_deadline(Clock::time_point now);

  // For the answering functions.

  /// Sends all of `head`, `body` and `end`, one behind the other. False: the client is gone or does not take it.
  asio::awaitable<bool> send(std::string_view head, std::string_view body = {}, std::string_view end = {});
  /// The site that answers the request in progress; one without a name if that is not known yet, or if there is none.
  const Site& site() const;
  /// The address that it came to; never null while a request is answered.
  const Listener& listener() const { return *listener_; }
  void set_site(const Site* site) { site_ = site; }
  /// The Host value that leads to site() without a further look on this connection.
  void remember_host(std::string_view host);
  /// The site of the Host value remembered last, if it is `host`; else null.
  const Site* site_of_remembered(std::string_view host) const { return host == known_host_ ? known_site_ : nullptr; }
  /// What this worker keeps of files, and the number that the site has there. Requires a site with a name.
  FileCache& files() { return served_->files; }
  std::size_t site_number() const { return static_cast<std::size_t>(site_ - settings().sites.data()); }
  run::Runners& runners() { return served_->runners; }
  const Endpoint& endpoint() const { return endpoint_; }
  /// Sends `head`, then `length` bytes of the file from `offset`. False as above, or if the file has become shorter.
  asio::awaitable<bool> send_with_file(std::string_view head, int file, std::uint64_t offset, std::uint64_t length);

  /// Appends what comes next of the request's body to `out`, its transfer coding taken off.
  asio::awaitable<BodyRead> read_body(const Request& request, std::string& out);
  /// Waits until the client closes the connection. Returns early, with false, when it sends another request, or when
  /// cancel_reading() is called.
  asio::awaitable<bool> client_leaves();
  /// Makes reads in progress return, and later ones too until resume_reading().
  void cancel_reading();
  void resume_reading() { reading_cancelled_ = false; }
  bool is_reading_cancelled() const { return reading_cancelled_; }
  /// True if the client has gone, as far as that can be told without reading what it sent before.
  bool has_client_left();
  /// Calls `then`, once, soon after the client has gone; null: nobody wants to know any more.
  void when_client_leaves(std::function<void()> then) { when_client_leaves_ = std::move(then); }

  /// After this answer the connection is closed.
  void close_after_answer() { keep_ = false; }
  /// Decides, when the head of an answer is written, whether the connection ends with it: also where a body is left
  /// that nobody has asked for.
  bool will_close();
  bool is_aborted() const { return aborted_; }

  /// The run that is cut off with the connection; null: none.
  void set_run(std::shared_ptr<run::Run> run) { run_ = std::move(run); }

  Worker& worker() { return worker_; }
  const Settings& settings() const { return served_->snapshot->settings; }
  const Snapshot& snapshot() const { return *served_->snapshot; }
  const Peer& peer() const { return peer_; }
  Answered& answered() { return answered_; }
  asio::any_io_executor executor() { return socket_.get_executor(); }

 private:
  enum class HeadRead { whole, closed, expired, rejected };

  /// Pieces of bytes to be sent one behind the other.
  using Parts = std::array<iovec, 4>;
  enum class Sent { all, some, failed };

  asio::awaitable<HeadRead> read_head();
  /// A part of a file that is still to be sent.
  struct FilePart {
    int file = -1;
    std::uint64_t offset = 0;
    std::uint64_t length = 0;
  };

  /// Sends what the socket takes at once of `parts` and then of `file`.
  Sent send_now(Parts& parts, FilePart& file);
  Sent send_parts_now(Parts& parts, int flags);
  Sent send_file_now(FilePart& part);
  asio::awaitable<bool> send_rest(Parts& parts, FilePart& file);
  /// Waits until something can be sent. False: for too long nothing could.
  asio::awaitable<bool> writable();
  /// How far answer_quickly() has come.
  enum class Quick { done, unfinished, no, problem };
  /// Parses the head that has been read, and answers from the cache if it can. No coroutine, since most requests need
  /// none.
  Quick answer_quickly();
  asio::awaitable<void> finish_answer(Quick quick);
  void finish_quick(Sent sent);
  asio::awaitable<void> handle_head();
  asio::awaitable<void> answer_problem_head(Finding finding);
  /// Makes room for more to be read, in a buffer of at most `most` bytes.
  void make_room(std::size_t most);
  asio::mutable_buffer free_space();
  asio::awaitable<bool> receive();
  void begin_body(const Request& request);
  asio::awaitable<void> finish_body(const Request& request);
  asio::awaitable<void> close_gently();
  /// Tells the client, if nothing was sent yet, that its request had to be given up for lack of memory; the connection
  /// ends with it.
  void give_up_request();
  /// What it means that the client sends nothing any more.
  bool end_of_sending_means_gone() const;
  void log_exchange(std::string_view method, std::string_view target);
  /// Notes what only the access log asks for, if there is one.
  void note_for_access_log(const http::RequestHead& head);
  /// Takes up the settings that the worker has now.
  void take_settings();

  std::string_view unread() const { return std::string_view(buffer_.data() + begin_, end_ - begin_); }
  void consume(std::size_t bytes);

  Worker& worker_;
  asio::ip::tcp::socket socket_;
  const Endpoint endpoint_;
  std::shared_ptr<Served> served_;
  const Listener* listener_ = nullptr;  ///< In served_, as are the next two.
  const Site* site_ = nullptr;
  const Site* known_site_ = nullptr;  ///< That of known_host_.
  Peer peer_;

  std::vector<char> buffer_;
  std::size_t begin_ = 0;
  std::size_t end_ = 0;
  std::size_t head_length_ = 0;  ///< Of the head at begin_, while its request is answered; 0 once it has been moved.
  http::RequestHead head_;
  std::optional<http::HeadProblem> problem_;
  std::optional<QuickAnswer> quick_;
  Parts parts_{};
  FilePart file_part_;
  std::string rest_of_date_;

  // The body of the request in progress.
  std::uint64_t body_read_ = 0;
  std::uint64_t body_length_ = 0;  ///< 0 where it is chunked.
  bool body_done_ = true;
  bool continue_owed_ = false;
  http::ChunkReader chunks_;

  Clock::time_point read_deadline_ = Clock::time_point::max();
  Clock::time_point write_deadline_ = Clock::time_point::max();
  bool read_expired_ = false;
  bool write_expired_ = false;
  bool reading_cancelled_ = false;

  bool keep_ = true;
  bool idle_ = true;
  bool aborted_ = false;
  bool half_close_is_fine_ = false;
  bool has_begun_answer_ = false;  ///< Something was sent for the request in progress.
  std::function<void()> when_client_leaves_;
  std::shared_ptr<run::Run> run_;
  Answered answered_;
  std::string known_host_;
};

}  // namespace porter::server
