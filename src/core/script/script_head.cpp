// Reading what a script writes before its page. See response_head.hpp.
#include "core/script/script_head.hpp"

#include <algorithm>
#include <charconv>

#include "core/http/head.hpp"
#include "core/http/status.hpp"

namespace porter::script {
namespace {

/// Fields that belong to the connection or, as Date does, to whoever sends the response on: the server decides them.
bool is_servers_field(std::string_view name) {
  for (const std::string_view field :
       {"Connection", "Keep-Alive", "Transfer-Encoding", "Upgrade", "Trailer", "TE", "Date"})
    if (http::same_name(name, field)) return true;
  return false;
}

bool has_control(std::string_view text) {
  return std::any_of(text.begin(), text.end(), [](char c) {
    const auto byte = static_cast<unsigned char>(c);
    return (byte < 0x20 && byte != '\t') || byte == 0x7f;
  });
}

bool read_status(std::string_view value, ScriptHead& head) {
  int status = 0;
  const auto [end, error] = std::from_chars(value.data(), value.data() + value.size(), status);
  if (error != std::errc{} || status < 200 || status > 599) return false;
  std::string_view rest = value.substr(static_cast<std::size_t>(end - value.data()));
  if (!rest.empty() && rest.front() != ' ') return false;
  head.status = status;
  head.reason = std::string(http::trim(rest));
  return true;
}

/// Reads one line into `head`; false if it is malformed.
bool read_line(std::string_view line, ScriptHead& head, bool& has_status) {
  const std::size_t colon = line.find(':');
  if (colon == line.npos || !http::is_token(line.substr(0, colon))) return false;
  const std::string_view name = line.substr(0, colon);
  const std::string_view value = http::trim(line.substr(colon + 1));
  if (has_control(value)) return false;
  // An empty field says nothing, and is passed on as that.
  const bool is_empty = value.empty();
  if (http::same_name(name, "Status")) {
    if (is_empty) return true;
    has_status = true;
    return read_status(value, head);
  }
  if (is_servers_field(name)) return true;
  if (http::same_name(name, "Content-Length")) {
    if (is_empty) return true;
    std::uint64_t length = 0;
    const auto [end, error] = std::from_chars(value.data(), value.data() + value.size(), length);
    if (error != std::errc{} || end != value.data() + value.size()) return false;
    if (head.content_length && *head.content_length != length) return false;
    head.content_length = length;
    return true;
  }
  if (http::same_name(name, "Location") && !is_empty) head.location = std::string(value);
  head.fields.emplace_back(name, value);
  return true;
}

}  // namespace

bool ScriptHead::lacks_content_type() const {
  // What belongs to no body needs no type, whatever is written behind it.
  return !http::has_no_body(status) && !has_field("Location") && !has_field("Content-Type");
}

bool ScriptHead::is_event_stream() const {
  return std::any_of(fields.begin(), fields.end(), [](const auto& field) {
    const std::string_view type = std::string_view(field.second).substr(0, field.second.find(';'));
    return http::same_name(field.first, "Content-Type") && http::same_name(http::trim(type), "text/event-stream");
  });
}

bool ScriptHead::has_field(std::string_view name) const {
  return std::any_of(fields.begin(), fields.end(),
                     [name](const auto& field) { return http::same_name(field.first, name); });
}

std::optional<std::size_t> script_head_length(std::string_view output) {
  if (output.starts_with("\n")) return 1;
  if (output.starts_with("\r\n")) return 2;
  for (std::size_t at = 0; (at = output.find('\n', at)) != output.npos; ++at) {
    if (output.substr(at + 1, 1) == "\n") return at + 2;
    if (output.substr(at + 1, 2) == "\r\n") return at + 3;
  }
  return std::nullopt;
}

bool is_surely_no_head(std::string_view output) {
  if (output.starts_with("HTTP/")) return false;
  const std::size_t end = output.find('\n');
  const std::string_view line = output.substr(0, end);
  const std::size_t colon = line.find(':');
  const std::string_view name = line.substr(0, colon);
  if (line.empty() || line == "\r") return end != output.npos;
  if (colon == line.npos) return end != output.npos || !http::is_token(name);
  return !http::is_token(name);
}

std::variant<ScriptHead, ScriptHeadProblem> parse_script_head(std::string_view text) {
  ScriptHead head;
  bool has_status = false;
  std::size_t number = 0;
  const std::string_view all = text;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    std::string_view line = text.substr(0, end);
    text.remove_prefix(std::min(end + 1, text.size()));
    if (line.ends_with('\r')) line.remove_suffix(1);
    ++number;
    if (line.empty()) break;
    // nph-style and other programs may begin with a status line of their own.
    if (number == 1 && line.starts_with("HTTP/") && line.size() > 9 && line[8] == ' ') {
      has_status = !has_control(line) && read_status(line.substr(9), head);
      if (!has_status) return ScriptHeadProblem{ScriptHeadProblem::Kind::malformed_line, number, std::string(line)};
      continue;
    }
    if (read_line(line, head, has_status)) continue;
    const auto kind = number == 1 ? ScriptHeadProblem::Kind::no_head : ScriptHeadProblem::Kind::malformed_line;
    return ScriptHeadProblem{kind, number, std::string(line)};
  }
  if (head.fields.empty() && !has_status && !head.content_length)
    return ScriptHeadProblem{ScriptHeadProblem::Kind::no_head, 1, std::string(all.substr(0, all.find('\n')))};
  if (head.location && !has_status) {
    // A client redirect without a status of its own is a 302 (section 6.2.3).
    head.status = 302;
  }
  head.has_status = has_status;
  return head;
}

}  // namespace porter::script
