// Reading a request head line by line. See head.hpp for where it is strict and where not.
#include "core/http/head.hpp"

#include <algorithm>
#include <array>
#include <cstdint>

#include "core/text/ascii.hpp"

namespace porter::http {
namespace {

constexpr std::array<bool, 256> token_table() {
  std::array<bool, 256> table{};
  for (int c = '0'; c <= '9'; ++c) table[static_cast<std::size_t>(c)] = true;
  for (int c = 'a'; c <= 'z'; ++c) table[static_cast<std::size_t>(c)] = true;
  for (int c = 'A'; c <= 'Z'; ++c) table[static_cast<std::size_t>(c)] = true;
  for (const char c : std::string_view("!#$%&'*+-.^_`|~")) table[static_cast<unsigned char>(c)] = true;
  return table;
}
constexpr std::array<bool, 256> kToken = token_table();

/// The number of bytes of empty lines before the request line, which a server skips (RFC 9112, section 2.2).
std::size_t leading_empty_lines(std::string_view bytes) {
  std::size_t at = 0;
  while (at < bytes.size()) {
    if (bytes[at] == '\n') {
      at += 1;
    } else if (bytes[at] == '\r' && at + 1 < bytes.size() && bytes[at + 1] == '\n') {
      at += 2;
    } else {
      break;
    }
  }
  return at;
}

std::string shown(std::string_view line) { return std::string(line.substr(0, 120)); }

std::optional<HeadProblem> read_request_line(std::string_view line, RequestHead& head) {
  const std::size_t first = line.find(' ');
  const std::size_t last = line.rfind(' ');
  if (first != line.npos && first == last && line.starts_with("GET /")) {
    head.method = line.substr(0, first);
    head.target = line.substr(first + 1);
    head.minor_version = 0;
    head.has_no_version = true;
    return std::nullopt;
  }
  if (first == line.npos || first == last) return HeadProblem{HeadError::bad_request_line, shown(line)};
  head.method = line.substr(0, first);
  head.target = line.substr(first + 1, last - first - 1);
  const std::string_view version = line.substr(last + 1);
  if (!is_token(head.method)) return HeadProblem{HeadError::bad_method, shown(line)};
  if (head.target.empty() || head.target.find(' ') != line.npos)
    return HeadProblem{HeadError::bad_request_line, shown(line)};
  const auto digit = [](char c) { return c >= '0' && c <= '9'; };
  if (version.size() != 8 || version.substr(0, 5) != "HTTP/" || version[6] != '.' || !digit(version[5]) ||
      !digit(version[7]))
    return HeadProblem{HeadError::bad_version, shown(line)};
  if (version[5] != '1') return HeadProblem{HeadError::other_version, std::string(version)};
  head.minor_version = version[7] == '0' ? 0 : 1;
  return std::nullopt;
}

std::optional<HeadProblem> read_field_line(std::string_view line, RequestHead& head) {
  if (line.front() == ' ' || line.front() == '\t') return HeadProblem{HeadError::folded_line, shown(line)};
  const std::size_t colon = line.find(':');
  if (colon == line.npos) return HeadProblem{HeadError::no_colon, shown(line)};
  const std::string_view name = line.substr(0, colon);
  if (!is_token(name)) return HeadProblem{HeadError::bad_field_name, shown(line)};
  const std::string_view value = trim(line.substr(colon + 1));
  for (const char c : value) {
    const auto byte = static_cast<unsigned char>(c);
    if ((byte < 0x20 && byte != '\t') || byte == 0x7f)
      return HeadProblem{byte == '\r' ? HeadError::bare_cr : HeadError::control_character, std::string(name)};
  }
  head.fields.push_back({name, value});
  return std::nullopt;
}

}  // namespace

bool is_token(std::string_view text) {
  return !text.empty() &&
         std::all_of(text.begin(), text.end(), [](char c) { return kToken[static_cast<unsigned char>(c)]; });
}

bool same_but_for_case(std::string_view a, std::string_view b) {
  return std::equal(a.begin(), a.end(), b.begin(),
                    [](char x, char y) { return x == y || text::ascii_lower(x) == text::ascii_lower(y); });
}

std::string_view trim(std::string_view text) {
  while (!text.empty() && (text.front() == ' ' || text.front() == '\t')) text.remove_prefix(1);
  while (!text.empty() && (text.back() == ' ' || text.back() == '\t')) text.remove_suffix(1);
  return text;
}

bool list_has(std::string_view value, std::string_view token) {
  while (!value.empty()) {
    const std::size_t comma = std::min(value.find(','), value.size());
    if (same_name(trim(value.substr(0, comma)), token)) return true;
    value.remove_prefix(std::min(comma + 1, value.size()));
  }
  return false;
}

std::optional<std::string_view> RequestHead::field(std::string_view name) const {
  for (const Field& field : fields)
    if (same_name(field.name, name)) return field.value;
  return std::nullopt;
}

std::size_t RequestHead::count(std::string_view name) const {
  return static_cast<std::size_t>(
      std::count_if(fields.begin(), fields.end(), [&](const Field& field) { return same_name(field.name, name); }));
}

std::string RequestHead::joined(std::string_view name) const {
  std::string out;
  bool first = true;
  for (const Field& field : fields) {
    if (!same_name(field.name, name)) continue;
    if (!first) out += ", ";
    out += field.value;
    first = false;
  }
  return out;
}

std::optional<std::size_t> head_length(std::string_view bytes, std::size_t from) {
  const std::size_t skipped = leading_empty_lines(bytes);
  // An end may straddle what was seen before: "\n\r" then "\n".
  std::size_t at = std::max(skipped, from > 3 ? from - 3 : 0);
  while ((at = bytes.find('\n', at)) != bytes.npos) {
    if (at + 1 < bytes.size() && bytes[at + 1] == '\n') return at + 2;
    if (at + 2 < bytes.size() && bytes[at + 1] == '\r' && bytes[at + 2] == '\n') return at + 3;
    ++at;
  }
  return std::nullopt;
}

std::optional<HeadProblem> reject_early(std::string_view bytes, const HeadLimits& limits) {
  if (bytes.size() > limits.head) return HeadProblem{HeadError::head_too_large, {}};
  const std::string_view rest = bytes.substr(leading_empty_lines(bytes));
  if (rest.size() >= 2 && rest[0] == '\x16' && rest[1] == '\x03') return HeadProblem{HeadError::tls_handshake, {}};
  if (!rest.empty() && rest[0] != '\r' && !kToken[static_cast<unsigned char>(rest[0])])
    return HeadProblem{HeadError::bad_method, {}};
  const std::size_t line = std::min(rest.find('\n'), rest.size());
  if (line > limits.request_line) return HeadProblem{HeadError::line_too_long, {}};
  return std::nullopt;
}

std::variant<RequestHead, HeadProblem> parse_head(std::string_view bytes, const HeadLimits& limits,
                                                  std::vector<Field> storage) {
  if (auto problem = reject_early(bytes, limits)) return std::move(*problem);
  bytes.remove_prefix(leading_empty_lines(bytes));
  RequestHead head;
  head.fields = std::move(storage);
  head.fields.clear();
  bool first = true;
  while (!bytes.empty()) {
    const std::size_t end = bytes.find('\n');
    if (end == bytes.npos) return HeadProblem{HeadError::bad_request_line, shown(bytes)};
    std::string_view line = bytes.substr(0, end);
    bytes.remove_prefix(end + 1);
    if (!line.empty() && line.back() == '\r') {
      line.remove_suffix(1);
    } else {
      head.bare_line_feeds = true;
    }
    if (line.empty()) break;
    if (first && line.find('\r') != line.npos) return HeadProblem{HeadError::bare_cr, "the request line"};
    if (auto problem = first ? read_request_line(line, head) : read_field_line(line, head)) return std::move(*problem);
    if (head.fields.size() > limits.fields) return HeadProblem{HeadError::too_many_fields, {}};
    first = false;
  }
  if (first) return HeadProblem{HeadError::bad_request_line, {}};
  if (head.has_no_version && !head.fields.empty())
    return HeadProblem{HeadError::bad_request_line, shown(std::string(head.method) + " " + std::string(head.target))};
  return head;
}

}  // namespace porter::http
