// The head of a request (RFC 9112, sections 2 to 5): the request line and the field lines, read strictly.
//
// The reader works on the bytes as they lie in the connection's buffer and copies nothing: every view in a RequestHead
// points into those bytes and lives as long as they do. It is strict where leniency lets two readers of one message
// disagree (folded lines, a space before the colon, a bare CR), and lenient in one place only: lines may end in a bare
// line feed, so that a request can be typed by hand. `bare_line_feeds` tells, since such a head may not announce a
// body.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace porter::http {

struct Field {
  std::string_view name;
  std::string_view value;  ///< Without the white space around it.
};

/// Texts of one length are the same but for their case.
bool same_but_for_case(std::string_view a, std::string_view b);
/// One field name equals another (names are compared without regard to case).
inline bool same_name(std::string_view a, std::string_view b) {
  return a.size() == b.size() && same_but_for_case(a, b);
}

struct RequestHead {
  std::string_view method;
  std::string_view target;
  int minor_version = 1;  ///< 0 or 1; a higher HTTP/1.x is read as 1.1 (RFC 9110, section 2.5).
  std::vector<Field> fields;
  bool bare_line_feeds = false;
  bool has_no_version = false;  ///< "GET /path" alone, as typed by hand; read as HTTP/1.0. It has no fields.

  /// The value of the first field of that name; nullopt if there is none.
  std::optional<std::string_view> field(std::string_view name) const;
  /// How many fields have that name.
  std::size_t count(std::string_view name) const;
  /// The values of all fields of that name, joined by ", " (RFC 9110, section 5.3); empty if there are none.
  std::string joined(std::string_view name) const;
};

struct HeadLimits {
  std::size_t request_line = 8 * 1024;
  std::size_t head = 32 * 1024;
  std::size_t fields = 100;

  bool operator==(const HeadLimits&) const = default;
};

enum class HeadError {
  tls_handshake,      ///< The bytes are a TLS ClientHello: the client was told https.
  bad_request_line,   ///< Not "method SP target SP version".
  bad_method,         ///< The method is not a token.
  bad_version,        ///< The version is not of the form HTTP/d.d.
  other_version,      ///< A major version other than 1 (505).
  line_too_long,      ///< 414
  head_too_large,     ///< 431
  too_many_fields,    ///< 431
  no_colon,           ///< A field line without a colon.
  bad_field_name,     ///< Empty, or not a token; a space before the colon among others.
  folded_line,        ///< A field line that begins with white space (RFC 9112, section 5.2).
  bare_cr,            ///< A CR that no LF follows.
  control_character,  ///< A control character in a field's value.
};

struct HeadProblem {
  HeadError error;
  std::string detail;  ///< The line, or its start, where there is one to show.
};

/// The length of the head at the start of `bytes`, its empty line included; nullopt while it is not whole.
/// `from` bytes are known from earlier calls to hold no end. Empty lines before the request line count as part of it.
std::optional<std::size_t> head_length(std::string_view bytes, std::size_t from);

/// What is already known to be wrong with a head that is not yet whole, so that a client is not waited for in vain.
std::optional<HeadProblem> reject_early(std::string_view bytes, const HeadLimits& limits);

/// Reads one whole head, as measured by head_length(). `storage` is memory of an earlier head's fields to be used
/// again.
std::variant<RequestHead, HeadProblem> parse_head(std::string_view bytes, const HeadLimits& limits,
                                                  std::vector<Field> storage = {});

/// True for the characters of a token (RFC 9110, section 5.6.2).
bool is_token(std::string_view text);

/// True if the comma-separated list `value` holds `token`, whatever its case.
bool list_has(std::string_view value, std::string_view token);

/// `text` without spaces and tabs at its ends.
std::string_view trim(std::string_view text);

}  // namespace porter::http
