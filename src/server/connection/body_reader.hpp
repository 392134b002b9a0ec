// The body of one request: read in pieces as the connection brings it, its transfer coding taken off (RFC 9112,
// sections 6 and 7), its client told to go on where it waits for that (RFC 9110, section 10.1.1).
#pragma once

#include <boost/asio/awaitable.hpp>
#include <chrono>
#include <cstdint>
#include <string>
#include <string_view>

#include "core/http/body.hpp"
#include "core/http/head.hpp"
#include "server/connection/input_buffer.hpp"
#include "server/connection/transport.hpp"

namespace porter::server {

class Writer;

/// What reading a request's body came to.
enum class BodyRead {
  data,       ///< Something was read.
  end,        ///< The body is complete.
  gone,       ///< The client has closed or broken the connection.
  malformed,  ///< The chunked coding is broken.
  too_large,  ///< More than the limit.
  too_slow,   ///< No progress for too long.
};

/// begin() comes before read() where there is a body; after the end, or an error, nothing more is read.
class BodyReader {
 public:
  /// Of a request that has no body, until begin() says otherwise.
  BodyReader(Transport& transport, InputBuffer& input, Writer& writer)
      : transport_(transport), input_(input), writer_(writer) {}
  BodyReader(const BodyReader&) = delete;
  BodyReader& operator=(const BodyReader&) = delete;

  struct Bounds {
    std::uint64_t most = 0;          ///< Bytes.
    std::chrono::seconds pause{30};  ///< Without progress.
  };
  /// The body that `head` announces, as `framing`, begins with what is unread.
  void begin(const http::RequestHead& head, const http::BodyFraming& framing, Bounds bounds);

  /// Has `piece` be what comes next of the body, until there is read on from the connection.
  asio::awaitable<BodyRead> next(std::string_view& piece);
  /// Appends what comes next of the body to `out`.
  asio::awaitable<BodyRead> read(std::string& out);
  /// Once the request is answered: reads what nobody wanted, if it is short. False: it is not, and the connection has
  /// to end.
  asio::awaitable<bool> finish();

  /// The body is complete, or there is none.
  bool is_done() const { return is_done_; }
  /// Whoever has read it does not read on.
  void leave() { is_left_alone_ = true; }
  /// True if nobody reads it, or reads on, and it would take too much to do so, or its client waits to be told to: then
  /// the connection ends with the response, and the next request is not looked for behind it.
  bool is_left() const;

 private:
  void tell_tap(std::string_view bytes) const;
  BodyRead why_nothing_came() const { return transport_.has_expired() ? BodyRead::too_slow : BodyRead::gone; }

  Transport& transport_;
  InputBuffer& input_;
  Writer& writer_;
  http::BodyFraming framing_;
  Bounds bounds_;
  std::uint64_t read_ = 0;
  bool is_done_ = true;
  bool continue_owed_ = false;
  bool is_left_alone_ = false;
  http::ChunkReader chunks_;
  std::string unchunked_;  ///< What was given last of a body in chunks.
};

}  // namespace porter::server
