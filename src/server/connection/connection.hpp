// A connection: one client's transport, the bytes that came over it, and the requests in them, one after the other.
//
// It lives on its worker's thread. serve() is its whole life: it reads a request head, gives the request a turn
// (server/connection/turn.hpp), has it answered, and goes on to the next until one side closes.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <exception>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/settings/address.hpp"
#include "server/connection/input_buffer.hpp"
#include "server/connection/responder.hpp"
#include "server/connection/transport.hpp"
#include "server/connection/turn.hpp"

namespace porter::server {

class Worker;
struct Served;

/// serve() is called once, and all else on the worker's thread.
class Connection : public std::enable_shared_from_this<Connection> {
 public:
  /// A connection that came in at `endpoint`, which is empty for the control interface.
  Connection(Worker& worker, Transport::Socket socket, Endpoint endpoint);
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
  void check_deadlines(Clock::time_point now);

  // For its turns.

  /// A Host value and the site that it leads to on this connection, by the settings that are served().
  struct KnownHost {
    std::string host;
    const Site* site;
  };
  const std::optional<KnownHost>& known_host() const { return known_host_; }
  void remember_host(std::string_view host, const Site* site);
  Transport& transport() { return transport_; }
  InputBuffer& input() { return input_; }
  Worker& worker() { return worker_; }
  const Ends& ends() const { return ends_; }
  const Endpoint& endpoint() const { return endpoint_; }
  const std::shared_ptr<Served>& served() const { return served_; }
  const Listener* listener() const { return listener_; }
  /// Whether another request may follow, as far as the connection itself knows.
  bool may_go_on() const { return keeps_; }
  /// How long the last head took from its first byte to its last.
  std::chrono::nanoseconds head_wait() const { return head_wait_; }

 private:
  enum class HeadRead { whole, closed, expired, rejected };

  asio::awaitable<HeadRead> read_head();
  /// Answers the request whose head is there, if that can be done at once. No coroutine, since most requests need none.
  bool answer_at_once();
  /// Sends what of a response that is whole goes at once. The rest is recorded as it is sent.
  Sent send(ReadyResponse&& response);
  asio::awaitable<void> answer(HeadRead read);
  asio::awaitable<void> refuse(Finding finding);
  void give_up_turn(const std::exception_ptr& failure) noexcept;
  /// Ends the turn of a request that was read: records it, and takes back the memory of its fields.
  void conclude();
  void record();
  /// Takes up the settings that the worker has now.
  void take_settings();

  Worker& worker_;
  Transport transport_;
  InputBuffer input_;
  const Endpoint endpoint_;
  const Ends ends_;
  std::shared_ptr<Served> served_;
  const Listener* listener_ = nullptr;  ///< In served_, as is the site of known_host_.
  std::optional<KnownHost> known_host_;
  std::uint64_t counted_received_ = 0;  ///< Bytes that exchanges so far have counted.
  std::uint64_t counted_sent_ = 0;
  std::size_t head_length_ = 0;                  ///< As read_head() has found it.
  std::optional<Clock::time_point> head_begun_;  ///< Set for a head that came in several pieces.
  std::chrono::nanoseconds head_wait_{0};
  std::optional<http::HeadProblem> head_problem_;
  std::unique_ptr<Turn> turn_;  ///< Of the request in progress; on its own, since most connections are idle.
  bool is_unfinished_ = false;  ///< Its response lay ready, and a part of it is still to be sent.
  bool keeps_ = true;
  std::vector<http::Field> field_space_;  ///< Memory of an earlier head's fields, for the next.
};

}  // namespace porter::server
