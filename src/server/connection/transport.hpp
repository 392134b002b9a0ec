// The transport of a connection: its socket, and the only place that touches it. Plain bytes over TCP or a Unix socket.
//
// It belongs to its worker's thread. Waiting for the client is bounded by two deadlines, one for each direction, which
// the worker's sweep looks at; so they are kept to a quarter of a second.
#pragma once

#include <sys/uio.h>

#include <array>
#include <boost/asio/as_tuple.hpp>
#include <boost/asio/awaitable.hpp>
#include <boost/asio/buffer.hpp>
#include <boost/asio/deferred.hpp>
#include <boost/asio/generic/stream_protocol.hpp>
#include <chrono>
#include <cstdint>
#include <span>
#include <string>
#include <string_view>

#include "run/pieces.hpp"

namespace porter::server {

namespace asio = boost::asio;
using Clock = std::chrono::steady_clock;

/// The time to within some milliseconds, at a tenth of the cost: enough for deadlines.
Clock::time_point coarse_now();

/// The two ends of a connection. Over a Unix socket there are no addresses, and both are on this computer.
struct Ends {
  std::string client_address;
  std::uint16_t client_port = 0;
  std::string server_address;
  std::uint16_t server_port = 0;
  bool is_this_computer = false;  ///< The client runs on the same machine.
};

/// Those of a connected socket, as the system tells them now.
Ends ends_of(int socket);

/// A part of a file that is to be sent.
struct FilePart {
  int file = -1;
  std::uint64_t offset = 0;
  std::uint64_t length = 0;
};

/// What is to be sent: pieces of bytes one behind the other, and then a part of a file. Sending takes away from its
/// front, so it always is what is left.
struct Outgoing {
  std::array<iovec, 4 + run::Pieces::kMost> pieces{};
  FilePart file{};

  Outgoing() = default;
  explicit Outgoing(FilePart part, std::string_view first, std::string_view second = {}, std::string_view third = {},
                    std::string_view fourth = {}, std::string_view fifth = {})
      : pieces{piece(first), piece(second), piece(third), piece(fourth), piece(fifth)}, file(part) {}
  static iovec piece(std::string_view bytes) { return {const_cast<char*>(bytes.data()), bytes.size()}; }
};

enum class Sent { all, some, failed };

/// Told of what passes a transport.
class Tap {
 public:
  virtual ~Tap() = default;
  /// Bytes that came, once it is known whose they are.
  virtual void received(std::string_view bytes) noexcept = 0;
  /// What has gone out of `before` since `left` is what is left of it.
  virtual void sent(const Outgoing& before, const Outgoing& left) noexcept = 0;
  virtual void sent(std::string_view bytes) noexcept = 0;
};

/// One coroutine at a time receives, and one sends; after close() or abort() nothing is sent or received any more.
class Transport {
 public:
  using Socket = asio::generic::stream_protocol::socket;

  explicit Transport(Socket socket);

  /// Has `tap` told of what is sent from now on; null: nobody is told. It must stay until then.
  void set_tap(Tap* tap) { tap_ = tap; }
  Tap* tap() const { return tap_; }

  /// Sends of `out` what the socket takes at once, and takes it away from there.
  Sent send_now(Outgoing& out);
  /// Sends all that is left of `out`. False: the client is gone, has taken nothing for `patience`, or the file has
  /// become shorter.
  asio::awaitable<bool> send_rest(Outgoing& out, std::chrono::seconds patience);
  /// Sends as send_now() does a text that need not arrive. Does not allocate.
  void send_hastily(std::string_view text) noexcept;

  /// Waits for bytes and puts them into `space`; gives an error, which may be ignored, and their number. 0: the client
  /// has closed or broken the connection, the deadline has come (has_expired()), or the wait was cancelled. To be
  /// awaited at once: it is no coroutine, which a wait for each request would feel.
  auto receive(std::span<char> space) {
    return socket_.async_read_some(asio::buffer(space.data(), space.size()), asio::as_tuple(asio::deferred));
  }
  /// From `time` on receive() does not wait any more; Clock::time_point::max(): it waits for ever.
  void set_receive_deadline(Clock::time_point time) { receive_deadline_ = time; }
  bool has_expired() const { return has_expired_; }

  /// What shows of the client without taking in what it sends.
  enum class Shows { nothing, bytes, end, broken };
  /// Waits until something shows; `nothing`: the wait was cancelled.
  asio::awaitable<Shows> look();
  /// True if the client has closed its sending side; is_broken() of them if all of the connection.
  bool has_hung_up() const;
  bool is_broken() const;

  /// Makes waits in progress return.
  void cancel();
  /// Makes every wait return, from now on.
  void abort();
  bool is_aborted() const { return is_aborted_; }
  /// Called from time to time: ends waits whose time is over.
  void check_deadlines(Clock::time_point now);

  /// Closes the sending side first and drops what still comes for a moment: closing a socket with unread bytes resets
  /// it, and the reset can overtake the response (RFC 9112, section 9.6).
  asio::awaitable<void> close_gently();
  void close();
  /// Lets go of its socket, which nothing waits for. -1: that cannot be done, and nothing has changed.
  int release();

  /// Bytes that it was sent by its client, as far as received() was told of them, and that it has sent.
  std::uint64_t received_bytes() const { return received_bytes_; }
  std::uint64_t sent_bytes() const { return sent_bytes_; }
  /// Notes that receive() has given `count` bytes.
  void received(std::size_t count) { received_bytes_ += count; }

  Ends ends() const;
  asio::any_io_executor executor() { return socket_.get_executor(); }

 private:
  Sent send_untapped(Outgoing& out);
  Sent send_pieces_now(Outgoing& out);
  Sent send_file_now(FilePart& part);
  short poll_events(short events) const;

  Socket socket_;
  Tap* tap_ = nullptr;
  std::uint64_t received_bytes_ = 0;
  std::uint64_t sent_bytes_ = 0;
  Clock::time_point receive_deadline_ = Clock::time_point::max();
  Clock::time_point send_deadline_ = Clock::time_point::max();
  bool has_expired_ = false;  ///< Receiving has.
  bool has_send_expired_ = false;
  bool is_aborted_ = false;
};

}  // namespace porter::server
