// The request target: forms, decoding, dot segments. See target.hpp.
#include "core/http/target.hpp"

#include <algorithm>
#include <utility>
#include <vector>

#include "core/text/ascii.hpp"

namespace porter::http {
namespace {

int hex_digit(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  if (c >= 'a' && c <= 'f') return c - 'a' + 10;
  if (c >= 'A' && c <= 'F') return c - 'A' + 10;
  return -1;
}

bool is_unreserved_in_path(unsigned char c) {
  if ((c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9')) return true;
  return std::string_view("-._~!$&'()*+,;=:@/").find(static_cast<char>(c)) != std::string_view::npos;
}

/// The byte that the escape at `at` stands for; nullopt if it is not "%" with two hexadecimal digits.
std::optional<char> escaped_byte(std::string_view text, std::size_t at) {
  const int high = at + 1 < text.size() ? hex_digit(text[at + 1]) : -1;
  const int low = at + 2 < text.size() ? hex_digit(text[at + 2]) : -1;
  if (high < 0 || low < 0) return std::nullopt;
  return static_cast<char>(high * 16 + low);
}

/// What of a well-formed path would make two readers of it disagree about where a segment or the path ends.
std::optional<TargetError> check_escapes(std::string_view raw) {
  for (std::size_t at = raw.find('%'); at != raw.npos; at = raw.find('%', at + 1)) {
    const auto byte = escaped_byte(raw, at);
    if (!byte) return TargetError::bad_escape;
    if (*byte == '\0') return TargetError::encoded_nul;
  }
  return std::nullopt;
}

/// `text` with every byte escaped for which `stays` does not hold.
std::string escaped(std::string_view text, bool (*stays)(unsigned char)) {
  static constexpr char kDigits[] = "0123456789ABCDEF";
  std::string out;
  out.reserve(text.size());
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    if (stays(byte)) {
      out += c;
    } else {
      out += '%';
      out += kDigits[byte >> 4];
      out += kDigits[byte & 15];
    }
  }
  return out;
}

}  // namespace

std::optional<std::string> percent_decode(std::string_view encoded) {
  std::string out;
  out.reserve(encoded.size());
  for (std::size_t i = 0; i < encoded.size(); ++i) {
    if (encoded[i] != '%') {
      out += encoded[i];
      continue;
    }
    const auto byte = escaped_byte(encoded, i);
    if (!byte) return std::nullopt;
    out += *byte;
    i += 2;
  }
  return out;
}

std::string percent_encode_path(std::string_view path) { return escaped(path, is_unreserved_in_path); }

std::string percent_encode(std::string_view text) {
  return escaped(text, [](unsigned char c) {
    return (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') ||
           std::string_view("-._~").find(static_cast<char>(c)) != std::string_view::npos;
  });
}

namespace {

/// Calls `take` with each segment of `path`, which begins with a slash; the last one is empty if it ends in one.
template <typename Take>
void each_segment(std::string_view path, Take take) {
  for (std::size_t at = 1; at <= path.size();) {
    const std::size_t slash = std::min(path.find('/', at), path.size());
    take(path.substr(at, slash - at));
    at = slash + 1;
  }
}

std::vector<std::string_view> split_at_slashes(std::string_view path) {
  std::vector<std::string_view> segments;
  each_segment(path, [&](std::string_view segment) { segments.push_back(segment); });
  return segments;
}

/// Takes the dot segments out. What names a folder keeps an empty segment at its end.
template <typename Text>
std::vector<Text> without_dots(std::vector<Text> segments) {
  std::vector<Text> kept;
  for (std::size_t i = 0; i < segments.size(); ++i) {
    const bool is_last = i + 1 == segments.size();
    const bool is_dots = segments[i] == "." || segments[i] == "..";
    if (segments[i] == ".." && !kept.empty()) kept.pop_back();
    if (!is_dots) kept.push_back(std::move(segments[i]));
    if (is_dots && is_last) kept.emplace_back();
  }
  return kept;
}

template <typename Text>
std::string joined_by_slashes(const std::vector<Text>& segments) {
  std::string out;
  for (const Text& segment : segments) {
    out += '/';
    out += segment;
  }
  return out.empty() ? "/" : out;
}

}  // namespace

std::string remove_dot_segments(std::string_view path) {
  return joined_by_slashes(without_dots(split_at_slashes(path)));
}

std::variant<Target, TargetError> parse_target(std::string_view raw, std::string_view method) {
  if (raw.empty()) return TargetError::empty;
  for (const char c : raw) {
    const auto byte = static_cast<unsigned char>(c);
    if (byte <= 0x20 || byte == 0x7f) return TargetError::bad_character;
    if (c == '#') return TargetError::fragment;
  }
  Target target;
  if (method == "CONNECT") {
    if (raw.find_first_of("/?@") != raw.npos || raw.find(':') == raw.npos) return TargetError::bad_form;
    target.form = TargetForm::authority;
    target.authority = std::string(raw);
    return target;
  }
  if (raw == "*") {
    if (method != "OPTIONS") return TargetError::bad_form;
    target.form = TargetForm::asterisk;
    return target;
  }
  if (raw.front() != '/') {
    const std::size_t scheme_end = raw.find("://");
    if (scheme_end == raw.npos) return TargetError::bad_form;
    std::string scheme(raw.substr(0, scheme_end));
    for (char& c : scheme) c = text::ascii_lower(c);
    if (scheme != "http" && scheme != "https") return TargetError::bad_form;
    const std::string_view rest = raw.substr(scheme_end + 3);
    const std::size_t authority_end = std::min(rest.find_first_of("/?"), rest.size());
    const std::string_view authority = rest.substr(0, authority_end);
    if (authority.empty() || authority.find('@') != authority.npos) return TargetError::bad_form;
    target.form = TargetForm::absolute;
    target.authority = std::string(authority);
    raw = rest.substr(authority_end);
  }
  const std::size_t question = raw.find('?');
  target.has_query = question != raw.npos;
  if (target.has_query) target.query = std::string(raw.substr(question + 1));
  target.raw_path = std::string(raw.substr(0, question));
  if (target.raw_path.empty()) target.raw_path = "/";
  // Most paths mean what they say.
  if (target.raw_path.find('%') == raw.npos && target.raw_path.find("/.") == raw.npos) {
    each_segment(target.raw_path, [&](std::string_view segment) {
      if (!segment.empty()) target.segments.emplace_back(segment);
    });
    target.path = target.raw_path;
    return target;
  }
  if (const auto error = check_escapes(target.raw_path)) return *error;
  // Decoded one by one, so that an encoded slash does not pass for one that separates.
  each_segment(target.raw_path, [&](std::string_view segment) { target.segments.push_back(*percent_decode(segment)); });
  target.segments = without_dots(std::move(target.segments));
  target.path = joined_by_slashes(target.segments);
  std::erase(target.segments, "");
  return target;
}

Target target_of(std::string_view path) { return std::get<Target>(parse_target(percent_encode_path(path), "GET")); }

std::string_view describe(TargetError error) {
  switch (error) {
    case TargetError::empty:
      return "is empty";
    case TargetError::bad_character:
      return "holds a space or a control character, which must be written as %20 or alike";
    case TargetError::bad_escape:
      return "has a percent sign that is not followed by two hexadecimal digits";
    case TargetError::encoded_nul:
      return "has an encoded NUL byte (%00), which no file name can hold";
    case TargetError::bad_form:
      return "is neither a path that begins with a slash nor an http:// URL";
    case TargetError::fragment:
      return "has a #, which belongs to the browser and is never sent";
  }
  return "";
}

}  // namespace porter::http
