// Recorded bytes read as HTTP messages, for people: leniently, since what went over the wire is told as it was, and
// whatever of it was kept.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace porter::exchange {

struct Message {
  std::string start_line;
  std::vector<std::pair<std::string, std::string>> fields;  ///< In the order in which they were sent.
  std::size_t body_at = 0;                                  ///< Where the body begins in the bytes.
  std::vector<std::string> interim;                         ///< Start lines of interim answers before it.

  /// The first field of that name; nullopt: there is none.
  std::optional<std::string> field(std::string_view name) const;
};

/// Reads the head of `bytes`, a request or a response; interim answers (RFC 9110, section 15.2) are stepped over.
Message read_message(std::string_view bytes);

/// A body as it was meant.
struct Body {
  std::string bytes;
  bool is_chunked = false;     ///< A transfer coding was taken off.
  bool is_compressed = false;  ///< A content coding was taken off.
  bool is_broken_off = false;  ///< There should be more of it.
  std::string problem;         ///< What kept it from being read whole; empty: nothing.
};

/// The body of `message`, read from `bytes`, with its transfer coding taken off (RFC 9112, section 7). At most `most`
/// bytes.
Body read_transferred(const Message& message, std::string_view bytes, std::uint64_t most);
/// The same with its content coding (RFC 9110, section 8.4) taken off as well, where it is
/// "gzip" or "deflate", its content coding. At most `most` bytes.
Body read_body(const Message& message, std::string_view bytes, std::uint64_t most);

/// What a body is, by its Content-Type and its beginning.
enum class BodyKind { none, text, json, form, upload, binary };
BodyKind kind_of_body(const Message& message, std::string_view body);

/// Names and values of a form (WHATWG URL, section 5.1), decoded.
std::vector<std::pair<std::string, std::string>> form_fields(std::string_view body);

/// One part of an upload (RFC 7578).
struct UploadPart {
  std::string name;
  std::optional<std::string> file;  ///< Its name, where the part is a file.
  std::string type;                 ///< Its Content-Type; empty: none is said.
  std::string bytes;
};
/// The parts of a "multipart/form-data" body.
std::vector<UploadPart> upload_parts(const Message& message, std::string_view body);

/// Where the content of a part lies in the body of an upload.
struct UploadSpan {
  std::string name;
  std::size_t at = 0;
  std::size_t size = 0;
};
/// The same parts as upload_parts() has, by their places.
std::vector<UploadSpan> upload_spans(const Message& message, std::string_view body);

/// 16 bytes to a line: their place, in hexadecimal, and as characters.
std::string hex_dump(std::string_view bytes);

/// The media type of `message` in lower case, without its parameters; empty: none is said.
std::string media_type(const Message& message);

/// `bytes` without their gzip or zlib coding; nullopt: they are not whole, or come to more than `most`.
std::optional<std::string> inflated(std::string_view bytes, std::uint64_t most);
inline constexpr std::uint64_t kMostInflated = 64ULL * 1024 * 1024;

}  // namespace porter::exchange
