// The head that a script writes before its page (RFC 3875, section 6).
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

namespace porter::script {

struct ScriptHead {
  int status = 200;
  std::string reason;                                       ///< Empty: the usual phrase.
  std::vector<std::pair<std::string, std::string>> fields;  ///< All but Status and those the server itself decides.
  std::optional<std::string> location;                      ///< Of a redirect; also among `fields` if it is absolute.
  std::optional<std::uint64_t> content_length;

  bool has_status = false;  ///< The script gave a status of its own.

  /// True for a redirect that the server resolves itself: a path in Location, and nothing else (section 6.2.2). With a
  /// status or further fields (a cookie, say) a path is what a browser is to be sent to, as PHP and others mean it.
  bool is_local_redirect() const {
    return location && location->starts_with('/') && !location->starts_with("//") && !has_status && fields.size() == 1;
  }
  bool has_field(std::string_view name) const;
  /// True if a page must not follow, since nothing says what it would be (section 6.3.1). What comes with a redirect is
  /// hardly ever looked at.
  bool lacks_content_type() const;
  /// True for server-sent events, which go on for as long as the client stays.
  bool is_event_stream() const;
};

struct ScriptHeadProblem {
  enum class Kind { no_head, malformed_line } kind;
  std::size_t line = 0;  ///< Counted from 1.
  std::string text;      ///< The line.
};

/// Where the head at the start of `output` ends, its empty line included; nullopt while it does not. Lines may end in
/// LF or CRLF.
std::optional<std::size_t> script_head_length(std::string_view output);

/// True as soon as the first line of `output` shows that no head can come of it, such as a line of HTML.
bool is_surely_no_head(std::string_view output);

/// Reads a whole head, as measured by script_head_length().
std::variant<ScriptHead, ScriptHeadProblem> parse_script_head(std::string_view head);

}  // namespace porter::script
