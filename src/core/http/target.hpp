// The request target (RFC 9112, section 3.2; RFC 3986): what a client asks for, split, decoded and made safe to look
// up.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace porter::http {

enum class TargetForm { origin, absolute, authority, asterisk };

/// A target that may be looked up. `path` begins with "/", is percent-decoded, and has no "." or ".." segments left.
struct Target {
  TargetForm form = TargetForm::origin;
  std::string path;  ///< Decoded; may hold any byte but NUL. Empty for authority and asterisk form.
  /// The segments of `path` that are not empty. One that holds a slash was sent with an encoded one (%2F): no file has
  /// such a name.
  std::vector<std::string> segments;
  std::string raw_path;                  ///< As it was sent, still encoded and with its dot segments.
  std::string query;                     ///< What follows the first "?", still encoded; empty when there is none.
  bool has_query = false;                ///< True for "/a?" as well, whose query is empty.
  std::optional<std::string> authority;  ///< Host and port of an absolute or authority form target.
};

enum class TargetError { empty, bad_character, bad_escape, encoded_nul, bad_form, fragment };

/// Reads the target of a request with `method`, which decides between the forms (CONNECT: authority, OPTIONS: also
/// "*").
std::variant<Target, TargetError> parse_target(std::string_view raw, std::string_view method);

/// The target that leads to `path`, a decoded path that begins with a slash.
Target target_of(std::string_view path);

/// What is wrong, as the end of a sentence that begins with "The request target".
std::string_view describe(TargetError error);

/// `path` without "." and ".." segments (RFC 3986, section 5.2.4); ".." never climbs above the first "/".
/// Requires a leading "/". A removed last segment leaves the slash, since it named a folder.
std::string remove_dot_segments(std::string_view path);

/// The bytes that `encoded` stands for; nullopt if an escape is not "%" with two hexadecimal digits.
std::optional<std::string> percent_decode(std::string_view encoded);

/// `text` with every byte escaped but letters, digits and "-._~" (RFC 3986, section 2.3), fit for any part of a URL.
std::string percent_encode(std::string_view text);

/// `path` with every byte escaped that may not stand in a URL's path; "/" stays.
std::string percent_encode_path(std::string_view path);

}  // namespace porter::http
