// How a request's body is delimited (RFC 9112, sections 6 and 7), and the reader of the chunked transfer coding.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <string_view>
#include <variant>

#include "core/http/head.hpp"

namespace porter::http {

/// How the body that follows a head ends.
struct BodyFraming {
  enum class Kind { none, length, chunked } kind = Kind::none;
  std::uint64_t length = 0;  ///< For Kind::length; may be 0.
};

enum class FramingError {
  both,                 ///< Content-Length together with Transfer-Encoding.
  bad_length,           ///< A Content-Length that is not a number, or several that differ.
  unknown_coding,       ///< A transfer coding other than "chunked" alone (501).
  coding_in_1_0,        ///< Transfer-Encoding in an HTTP/1.0 request.
  body_with_bare_lines  ///< A body announced by a head that was typed with bare line feeds.
};

/// The framing that `head` announces (RFC 9112, section 6.3).
std::variant<BodyFraming, FramingError> body_framing(const RequestHead& head);

/// Takes the chunked transfer coding apart as the bytes come (RFC 9112, section 7.1). Extensions and trailers are
/// read within limits and dropped.
class ChunkReader {
 public:
  enum class State { more, done, bad };

  /// Reads from the front of `input` and appends the data in it to `body`. Returns how many bytes were used; fewer than
  /// all only when the body is done or bad.
  std::size_t read(std::string_view input, std::string& body);

  State state() const { return state_; }

 private:
  enum class Step { size, extension, size_end, data, data_cr, data_lf, trailer_start, trailer, trailer_end, end };

  void take(char c);
  void take_size_digit(char c);
  void fail() { state_ = State::bad; }

  State state_ = State::more;
  Step step_ = Step::size;
  std::uint64_t left_ = 0;  ///< Bytes of the current chunk still to come, or its size as read so far.
  int digits_ = 0;          ///< Digits of the chunk's size read so far.
  std::size_t extras_ = 0;  ///< Bytes of the current chunk's extension, or of the trailer section.
};

}  // namespace porter::http
