// Formatting a log line; on the way of every request, so without streams and with the clock's text kept for a second.
#include "server/record/log_line.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <ctime>

#include "core/text/text.hpp"
#include "server/record/long_waits.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kTargetWidth = 34;
constexpr std::size_t kSizeWidth = 8;

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

/// The colours that the client has for good, doubtful and bad.
std::string_view status_colour(int status) {
  if (status >= 500 || status == 0) return "\x1b[1;31m";
  if (status >= 400) return "\x1b[1;33m";
  if (status >= 300) return "";
  return "\x1b[1;32m";
}

bool is_this_computer(std::string_view client) { return client.starts_with("127.") || client == "::1"; }

/// Appends `number` with spaces before it up to `width`.
void append_number(std::string& out, std::uint64_t number, std::size_t width) {
  std::array<char, 20> digits;
  const auto end = std::to_chars(digits.data(), digits.data() + digits.size(), number).ptr;
  const auto length = static_cast<std::size_t>(end - digits.data());
  out.append(width > length ? width - length : 0, ' ');
  out.append(digits.data(), length);
}

/// "  1.2 ms", " 350 ms" or " 12.5 s ", always as wide.
void append_duration(std::string& out, std::chrono::nanoseconds duration) {
  const auto micros = static_cast<std::uint64_t>(duration.count() / 1000);
  const auto append_tenths = [&](std::uint64_t tenths, std::string_view unit) {
    append_number(out, tenths / 10, 3);
    out += '.';
    out += static_cast<char>('0' + tenths % 10);
    out += unit;
  };
  if (micros < 99'950) {
    append_tenths((micros + 50) / 100, " ms");
  } else if (micros < 10'000'000) {
    append_number(out, (micros + 500) / 1000, 5);
    out += " ms";
  } else {
    append_tenths(micros / 100'000, " s ");
  }
}

bool is_plain(std::string_view text) {
  return std::all_of(text.begin(), text.end(), [](char c) { return c >= 0x20 && c < 0x7f; });
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

/// What a script wrote to its error stream, below the line of its request.
void append_error_lines(std::string& out, const RunFacts& run, bool coloured) {
  constexpr std::string_view kMark = "              ! ";
  const auto append = [&](std::string_view text) {
    if (coloured) out += "\x1b[33m";
    out += kMark;
    out += text::show_line(text);
    if (coloured) out += "\x1b[0m";
    out += '\n';
  };
  for (const std::string& text : run.error_lines) append(text);
  if (run.more_error_lines > 0) append(fmt::format("… and {} more lines", run.more_error_lines));
}

enum class Paths { whole, below_root };

/// What ran it, in which way if not in a process of its own, and what was run.
void append_run(std::string& out, const RunFacts& run, Paths paths) {
  const bool is_external = run.persistent && !run.persistent->external.empty();
  if (run.persistent) out += is_external ? "external " : "persistent ";
  out += is_external ? run.persistent->external : run.runner;
  out += ' ';
  out += std::string_view(run.script).substr(paths == Paths::whole ? 0 : run.script_below_root);
}

/// Appends what answered, as answered_by() gives it.
void append_answered_by(std::string& out, const Exchange& exchange, Paths paths) {
  const std::size_t begin = out.size();
  const auto separate = [&out, begin] { out += out.size() == begin ? "" : "; "; };
  const auto add = [&](std::string_view what) {
    separate();
    out += what;
  };
  const auto add_finding = [&](const Finding& finding) {
    add(fmt::format("{}: {}", code_name(finding.code), sentence_of(finding)));
  };
  for (const RunFacts& run : exchange.runs) {
    if (!run.redirected_to) continue;
    separate();
    append_run(out, run, paths);
    out += " leads to " + *run.redirected_to;
  }
  const RunFacts* const last = exchange.runs.empty() ? nullptr : &exchange.runs.back();
  std::size_t told = 0;
  if (const auto* const problem = std::get_if<ByProblem>(&exchange.by)) {
    if (!exchange.findings.empty()) add_finding(exchange.findings[told++]);
    if (!problem->number.empty()) out.insert(begin, problem->number + " ");
    if (last != nullptr && last->is_for_problem && exchange.findings.size() == 1) {
      add("page by ");
      append_run(out, *last, paths);
    }
  } else if (std::holds_alternative<ByScript>(exchange.by)) {
    if (last != nullptr) {
      separate();
      append_run(out, *last, paths);
    }
  } else if (const auto* const redirect = std::get_if<ByRedirect>(&exchange.by)) {
    add("redirect to " + redirect->location);
  } else if (std::holds_alternative<ByFile>(exchange.by)) {
    add("file");
  } else if (std::holds_alternative<ByListing>(exchange.by)) {
    add("listing");
  } else if (std::holds_alternative<ByStartPage>(exchange.by)) {
    add("start page");
  } else if (std::holds_alternative<ByOptions>(exchange.by)) {
    add("options");
  }
  if (exchange.is_by_fallback) out += " as fallback";
  for (; told < exchange.findings.size(); ++told) add_finding(exchange.findings[told]);
  if (last != nullptr && last->queue_wait >= kLongWait)
    add(fmt::format("waited {:.1f} s for {}", std::chrono::duration<double>(last->queue_wait).count(),
                    last->waited_for));
  if (last != nullptr && last->went_on > std::chrono::milliseconds(100))
    add(fmt::format("client left; went on for {:.1f} s", std::chrono::duration<double>(last->went_on).count()));
  if (last != nullptr && last->was_left_waiting) add("the client left before it could begin");
}

}  // namespace

std::string answered_by(const Exchange& exchange) {
  std::string out;
  append_answered_by(out, exchange, Paths::whole);
  return out;
}

void append_log_line(std::string& out, const Exchange& line, Colour colour) {
  const auto since_epoch = line.time.time_since_epoch();
  const auto seconds = std::chrono::duration_cast<std::chrono::seconds>(since_epoch);
  const auto millis = std::chrono::duration_cast<std::chrono::milliseconds>(since_epoch - seconds);
  const bool coloured = colour == Colour::on;
  if (coloured) out += "\x1b[2m";
  out += clock_text(seconds.count());
  out += '.';
  const auto rest = static_cast<unsigned>(millis.count());
  for (const unsigned digit : {rest / 100, rest / 10 % 10, rest % 10}) out += static_cast<char>('0' + digit);
  if (coloured) out += "\x1b[0m";
  out += "  ";
  const std::string_view shade = coloured ? status_colour(line.status) : "";
  out += shade;
  if (line.status == 0) {
    out += "---";
  } else {
    append_number(out, static_cast<std::uint64_t>(line.status), 3);
  }
  if (!shade.empty()) out += "\x1b[0m";
  out += "  ";
  append_duration(out, line.duration);
  out += "  ";
  std::size_t width = append_escaped(out, line.method) + 1;
  out += ' ';
  width += append_escaped(out, line.target);
  out.append(kTargetWidth > width ? kTargetWidth - width : 0, ' ');
  out += "  ";
  const std::string size = text::format_size(line.body_bytes);
  out.append(kSizeWidth > size.size() ? kSizeWidth - size.size() : 0, ' ');
  out += size;
  out += "  ";
  if (line.site && line.is_one_of_several) {
    out += '[';
    out += *line.site;
    out += "]  ";
  }
  // Mostly nothing in it needs to be escaped, and it is not copied.
  const std::size_t begin = out.size();
  append_answered_by(out, line, Paths::below_root);
  if (const std::string_view told = std::string_view(out).substr(begin); !is_plain(told))
    out.replace(begin, out.npos, text::escape_line(told));
  if (!is_this_computer(line.client)) (out += "  from ") += line.client;
  out += '\n';
  for (const RunFacts& run : line.runs) append_error_lines(out, run, coloured);
}

}  // namespace porter::server
