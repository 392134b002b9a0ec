// Formatting a log line; on the way of every request, so without streams and with the clock's text kept for a second.
#include "server/log_line.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <ctime>
#include <iterator>

#include "core/text/text.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kTargetWidth = 34;

/// "14:03:22" in local time.
std::string_view clock_text(std::time_t seconds) {
  thread_local std::time_t shown = -1;
  thread_local std::string text;
  if (seconds != shown) {
    std::tm local{};
    ::localtime_r(&seconds, &local);
    text = fmt::format("{:02}:{:02}:{:02}", local.tm_hour, local.tm_min, local.tm_sec);
    shown = seconds;
  }
  return text;
}

std::string_view status_colour(int status) {
  if (status >= 500) return "\x1b[1;31m";
  if (status >= 400) return "\x1b[33m";
  if (status >= 300) return "\x1b[36m";
  return "\x1b[32m";
}

void append_duration(std::string& out, std::chrono::nanoseconds duration) {
  const double ms = std::chrono::duration<double, std::milli>(duration).count();
  if (ms < 100) {
    fmt::format_to(std::back_inserter(out), "{:5.1f} ms", ms);
  } else if (ms < 10000) {
    fmt::format_to(std::back_inserter(out), "{:5.0f} ms", ms);
  } else {
    fmt::format_to(std::back_inserter(out), "{:5.1f} s ", ms / 1000);
  }
}

bool is_plain(std::string_view text) {
  return std::all_of(text.begin(), text.end(), [](char c) { return c >= 0x20 && c < 0x7f && c != '\\'; });
}

/// Appends `text` escaped; returns the number of characters it takes up, as far as ASCII goes.
std::size_t append_escaped(std::string& out, std::string_view text) {
  if (is_plain(text)) {
    out += text;
    return text.size();
  }
  const std::string escaped = text::escape_line(text);
  out += escaped;
  return static_cast<std::size_t>(std::count_if(escaped.begin(), escaped.end(),
                                                [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; }));
}

}  // namespace

void append_log_line(std::string& out, const LogLine& line, Colour colour) {
  const auto since_epoch = line.time.time_since_epoch();
  const auto seconds = std::chrono::duration_cast<std::chrono::seconds>(since_epoch);
  const auto millis = std::chrono::duration_cast<std::chrono::milliseconds>(since_epoch - seconds);
  const bool coloured = colour == Colour::on;
  if (coloured) out += "\x1b[2m";
  fmt::format_to(std::back_inserter(out), "{}.{:03}  {:<9}", clock_text(seconds.count()), millis.count(), line.client);
  if (coloured) out += "\x1b[0m";
  out += "  ";
  std::size_t width = append_escaped(out, line.method) + 1;
  out += ' ';
  width += append_escaped(out, line.target);
  out.append(kTargetWidth > width ? kTargetWidth - width : 0, ' ');
  out += "  ";
  if (coloured) out += status_colour(line.status);
  if (line.status == 0) {
    out += "---";
  } else {
    fmt::format_to(std::back_inserter(out), "{}", line.status);
  }
  if (coloured) out += "\x1b[0m";
  out += "  ";
  append_duration(out, line.duration);
  fmt::format_to(std::back_inserter(out), "  {:>8}  ", text::format_size(line.body_bytes));
  append_escaped(out, line.answered_by);
  out += '\n';
}

}  // namespace porter::server
