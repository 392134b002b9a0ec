// See exchange_view.hpp.
#include "client/exchange_view.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <ctime>
#include <iterator>

#include "client/output.hpp"
#include "core/exchange/message.hpp"
#include "core/text/text.hpp"

namespace porter::client {
namespace {

using Json = nlohmann::json;

/// Bytes of a body that are taken apart, and lines of it that are shown.
constexpr std::uint64_t kMostOfBody = 16 * 1024 * 1024;
constexpr std::size_t kMostLines = 200;
constexpr std::size_t kMostDumped = 256;
constexpr std::size_t kBarWidth = 40;

/// Of UTF-8 each character is taken for one column.
std::size_t columns_of(std::string_view text) {
  return static_cast<std::size_t>(
      std::count_if(text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; }));
}

/// The first `columns` of `text`, with an ellipsis where it was longer.
std::string fitted(const std::string& text, std::size_t columns) {
  if (columns_of(text) <= columns) return text;
  std::size_t end = 0;
  for (std::size_t shown = 0; end < text.size() && shown + 1 < columns; ++shown) {
    ++end;
    while (end < text.size() && (static_cast<unsigned char>(text[end]) & 0xc0) == 0x80) ++end;
  }
  return text.substr(0, end) + "…";
}

std::string padded(const std::string& text, std::size_t columns) {
  return text + std::string(columns - std::min(columns, columns_of(text)), ' ');
}

const std::string& colour_of(int status) {
  return status == 0 || status >= 500 ? paint().bad
         : status >= 400              ? paint().warn
         : status >= 300              ? paint().plain
                                      : paint().good;
}

std::string painted(const std::string& colour, const std::string& text) {
  return colour.empty() ? text : colour + text + paint().plain;
}

/// "07:40:12.125" in local time, of "2026-03-01T07:40:12.125Z".
std::string clock_of(const std::string& time) {
  std::tm parts{};
  if (::strptime(time.c_str(), "%Y-%m-%dT%H:%M:%S", &parts) == nullptr) return time;
  const std::time_t seconds = ::timegm(&parts);
  ::localtime_r(&seconds, &parts);
  return fmt::format("{:02}:{:02}:{:02}{}", parts.tm_hour, parts.tm_min, parts.tm_sec,
                     time.size() > 23 ? time.substr(19, 4) : "");
}

std::string millis_text(double millis) {
  if (millis < 99.95) return fmt::format("{:.1f} ms", millis);
  if (millis < 9999.5) return fmt::format("{:.0f} ms", millis);
  return fmt::format("{:.1f} s", millis / 1000);
}

void add_heading(std::string& out, const std::string& name, const std::string& beside = "") {
  out += "\n" + painted(paint().bold, name) + (beside.empty() ? "" : "  " + beside) + "\n";
}

/// Names and values with the values below one another.
void add_pairs(std::string& out, const std::vector<std::pair<std::string, std::string>>& pairs) {
  constexpr std::size_t kWidest = 28;
  std::size_t width = 0;
  for (const auto& [name, value] : pairs) width = std::max(width, std::min(kWidest, columns_of(name)));
  for (const auto& [name, value] : pairs)
    out += "  " + padded(text::show_line(name), width) + "  " + text::show_line(value) + "\n";
}

void add_lines(std::string& out, std::string_view body) {
  std::vector<std::string_view> lines = text::parts_of(body, '\n');
  if (!lines.empty() && lines.back().empty()) lines.pop_back();
  for (std::size_t i = 0; i < lines.size() && i < kMostLines; ++i) {
    std::string_view line = lines[i];
    if (line.ends_with('\r')) line.remove_suffix(1);
    out += "  " + text::show_line(line) + "\n";
  }
  if (lines.size() > kMostLines) out += fmt::format("  … {} more lines\n", lines.size() - kMostLines);
}

void add_dump(std::string& out, std::string_view bytes) {
  const std::string dump = exchange::hex_dump(bytes.substr(0, kMostDumped));
  for (const std::string_view line : text::parts_of(dump, '\n'))
    if (!line.empty()) out += "  " + std::string(line) + "\n";
  if (bytes.size() > kMostDumped) out += fmt::format("  … {} more bytes\n", bytes.size() - kMostDumped);
}

/// A body by its kind. It lies `level` parts of uploads deep.
void add_body(std::string& out, const exchange::Message& message, const std::string& body, std::size_t level = 0) {
  using exchange::BodyKind;
  BodyKind kind = exchange::kind_of_body(message, body);
  if (kind == BodyKind::upload && level >= kDeepestNesting) kind = BodyKind::text;
  switch (kind) {
    case BodyKind::none:
      break;
    case BodyKind::text:
      add_lines(out, body);
      break;
    case BodyKind::json: {
      const Json value = parse_json(body);
      add_lines(out, value.is_discarded() ? body : json_text(value, 2));
      break;
    }
    case BodyKind::form:
      add_pairs(out, exchange::form_fields(body));
      break;
    case BodyKind::upload:
      for (const exchange::UploadPart& part : exchange::upload_parts(message, body)) {
        constexpr std::size_t kShort = 60;
        if (!part.file && part.type.empty() && part.bytes.size() <= kShort &&
            part.bytes.find('\n') == part.bytes.npos) {
          add_pairs(out, {{part.name, part.bytes}});
          continue;
        }
        const std::string size = text::format_size(part.bytes.size());
        out += "  " + painted(paint().bold, text::show_line(part.name)) +
               (part.file ? "  the file \"" + text::show_line(*part.file) + "\"" : "") +
               (part.type.empty() ? "" : ", " + text::show_line(part.type)) + ", " + size + "\n";
        exchange::Message head;
        head.fields.emplace_back("Content-Type", part.type);
        std::string shown;
        add_body(shown, head, part.bytes, level + 1);
        for (const std::string_view line : text::parts_of(shown, '\n'))
          if (!line.empty()) out += "  " + std::string(line) + "\n";
      }
      break;
    case BodyKind::binary:
      add_dump(out, body);
      break;
  }
}

/// A message: its start line, its fields, its body.
void add_message(std::string& out, const std::string& name, const Json& told, std::string_view bytes, bool has_body) {
  const exchange::Message message = exchange::read_message(bytes);
  const auto length = told.value("bytes", std::uint64_t{0});
  const auto kept = told.value("kept_bytes", std::uint64_t{0});
  add_heading(out, name,
              text::format_size(length) + (kept < length ? ", of which " + text::format_size(kept) + " are kept" : ""));
  if (length == 0) {
    out += "  (nothing)\n";
    return;
  }
  for (const std::string& interim : message.interim) out += "  " + text::show_line(interim) + "\n";
  out += "  " + text::show_line(message.start_line) + "\n";
  add_pairs(out, message.fields);
  if (const auto files = told.find("from_files"); files != told.end()) {
    for (const Json& part : *files)
      out += fmt::format("\n  {} out of the file {}, from byte {} on\n",
                         text::format_size(part.value("length", std::uint64_t{0})), shown(part["file"]),
                         part.value("offset", std::uint64_t{0}));
    return;
  }
  if (!has_body) return;
  const exchange::Body body = exchange::read_body(message, bytes, kMostOfBody);
  if (body.bytes.empty()) return;
  std::string codings;
  if (body.is_chunked) codings += ", sent in chunks";
  if (body.is_compressed) codings += ", sent compressed";
  if (!body.problem.empty() && kept == length) codings += "; " + body.problem;
  out += "\n  (" + text::format_size(body.bytes.size()) + codings + ")\n";
  add_body(out, message, body.bytes);
}

/// Where the time went, as a bar: each part of it as wide as it was long.
void add_timing(std::string& out, const Json& timing) {
  struct Part {
    const char* name;
    double millis;
    char mark;
  };
  const double queue = timing.value("queue", 0.0);
  const double start = timing.value("start", 0.0);
  const double first = timing.value("first_byte", 0.0);
  const double all = std::max(timing.value("all", 0.0), first);
  const Part parts[] = {{"waiting for its head", timing.value("head", 0.0), '.'},
                        {"in the queue", queue, '.'},
                        {"starting the process", start, '+'},
                        {"until the first byte", std::max(0.0, first - queue - start), '='},
                        {"sending the rest", std::max(0.0, all - first), '#'}};
  double sum = 0;
  for (const Part& part : parts) sum += part.millis;
  add_heading(out, "Time", millis_text(all) + " in all");
  std::size_t at = 0;
  double before = 0;
  for (const Part& part : parts) {
    before += part.millis;
    const std::size_t end = sum > 0 ? static_cast<std::size_t>(std::lround(before / sum * kBarWidth)) : 0;
    if (part.millis > 0)
      out += fmt::format("  {:<22} {:>10}  {}{}\n", part.name, millis_text(part.millis), std::string(at, ' '),
                         std::string(std::max<std::size_t>(end - at, 1), part.mark));
    at = end;
  }
}

void add_run(std::string& out, const Json& run) {
  std::string command;
  for (const Json& word : run["command"])
    command += (command.empty() ? "" : " ") + text::shell_word(word.get<std::string>());
  // What is kept goes on in any case, and mostly says nothing of how a run ended.
  std::string end = run.value("way", "fresh") == "fresh" ? "went on" : "ended";
  if (run.contains("exit_status")) end = fmt::format("exit status {}", run["exit_status"].get<int>());
  if (run.contains("signal")) end = fmt::format("ended by signal {}", run["signal"].get<int>());
  end += fmt::format(", {}, {} of processor time", millis_text(run.value("milliseconds", 0.0)),
                     millis_text(run.value("processor_milliseconds", 0.0)));
  if (const auto memory = run.value("peak_memory_kib", std::uint64_t{0}); memory > 0)
    end += fmt::format(", at most {} of memory", text::format_size(memory * 1024));
  add_heading(out, "Run", end);
  std::vector<std::pair<std::string, std::string>> facts = {
      {"Script", run.value("script", "")}, {"Command", command}, {"Folder", run.value("folder", "")}};
  if (run.contains("waited_for"))
    facts.emplace_back("Waited", fmt::format("{} for {}", millis_text(run.value("queue_milliseconds", 0.0)),
                                             run.value("waited_for", "")));
  if (run.contains("process"))
    facts.emplace_back("Pooled process", fmt::format("{}, its run {}", run["process"].get<int>(),
                                                     run.value("run_of_process", std::uint64_t{0})));
  if (run.contains("external")) facts.emplace_back("External server", run.value("external", ""));
  if (run.contains("redirected_to")) facts.emplace_back("Local redirect", run.value("redirected_to", ""));
  add_pairs(out, facts);
  if (!run["environment"].empty()) out += "  Environment\n";
  for (const Json& variable : run["environment"]) out += "    " + shown(variable) + "\n";
  for (const Json& line : run["error_lines"]) out += "  " + painted(paint().warn, "! " + shown(line)) + "\n";
  if (const auto more = run.value("more_error_lines", 0); more > 0)
    out += fmt::format("  ! … and {} more lines\n", more);
}

std::string value_text(const Json& value) {
  if (value.is_null()) return "(none)";
  if (value.is_string()) return text::show_line(value.get<std::string>());
  if (!value.is_array()) return text::show_line(json_text(value));
  std::string out;
  for (const Json& part : value)
    out += (out.empty() ? "" : " / ") + (part.is_string() ? text::show_line(part.get<std::string>()) : json_text(part));
  return value.empty() ? "(none)" : out;
}

void add_sides(std::string& out, const std::string& name, const Json& sides, bool as_json) {
  const auto side_text = [&](const char* key) {
    return sides.contains(key) ? as_json ? text::show_line(json_text(sides[key])) : value_text(sides[key]) : "(none)";
  };
  out += "  " + name + "\n";
  out += "    " + painted(paint().bad, "- " + side_text("left")) + "\n";
  out += "    " + painted(paint().good, "+ " + side_text("right")) + "\n";
}

void add_page(std::string& out, const Json& page) {
  const auto bytes = [&](const char* key) { return text::format_size(page.value(key, std::uint64_t{0})); };
  if (page.value("alike", false)) {
    out += "  Page    alike, " + bytes("left_bytes") + "\n";
    return;
  }
  out += "  Page    " + bytes("left_bytes") + " and " + bytes("right_bytes") + "\n";
  const std::string kind = page.value("kind", "");
  const auto more = page.value("more", std::uint64_t{0});
  if (kind == "json") {
    for (const Json& place : page["places"])
      add_sides(out, "  " + (place.value("place", "").empty() ? "(all)" : shown(place["place"])), place, true);
    if (more > 0) out += fmt::format("    … and {} more {}\n", more, more == 1 ? "place" : "places");
  } else if (kind == "bytes") {
    out += fmt::format("    The first difference is at byte {}.\n", page.value("first_difference", 0));
  } else {
    for (const Json& line : page["lines"]) {
      const std::string mark = line.value("mark", " ");
      if (mark == "…") {
        const auto count = line.value("count", 0);
        out += fmt::format("    {:>5} {:>5}   … {} {} alike\n", "", "", count, count == 1 ? "line" : "lines");
        continue;
      }
      const auto number = [&](const char* side) {
        return line.contains(side) ? std::to_string(line[side].get<int>()) : "";
      };
      const std::string shown_line = mark + " " + text::show_line(line.value("text", ""));
      out += fmt::format("    {:>5} {:>5} ", number("left"), number("right")) +
             painted(mark == "-"   ? paint().bad
                     : mark == "+" ? paint().good
                                   : "",
                     shown_line) +
             "\n";
    }
    if (more > 0) out += fmt::format("    … and {} more {} that differ\n", more, more == 1 ? "line" : "lines");
  }
}

}  // namespace

std::string line_of(const Json& row, std::size_t width, const std::map<std::string, std::string>& roots) {
  const int status = row.value("status", 0);
  const bool is_open = row.value("in_progress", false);
  const std::string begin =
      fmt::format("{:>6}  {}  ", row.value("number", std::uint64_t{0}), clock_of(row.value("time", "")));
  const std::string state = is_open && status == 0 ? "..." : status == 0 ? "---" : std::to_string(status);
  std::string rest = fmt::format("  {:>8}  {:>8}  ", is_open ? "so far" : millis_text(row.value("milliseconds", 0.0)),
                                 text::format_size(row.value("bytes", std::uint64_t{0})));
  if (row.contains("site")) rest += "[" + shown(row["site"]) + "]  ";
  std::string by = shown(row["answered_by"]);
  if (const auto root = roots.find(row.value("site", "")); root != roots.end() && !root->second.empty())
    if (const std::size_t at = by.find(root->second); at != by.npos) by.erase(at, root->second.size());
  rest += by;
  if (row.contains("repeats")) rest += fmt::format(" (repeats {})", row["repeats"].get<std::uint64_t>());
  constexpr std::size_t kUsualTarget = 40;
  // Of what there is room for, the target has the greater part.
  std::size_t target_width = kUsualTarget;
  if (width > 0) target_width = std::clamp<std::size_t>((width - std::min(width, begin.size() + 3)) / 3, 12, 60);
  const std::string target = padded(
      fitted(shown(row["method"]) + " " + shown(row["target"]), width > 0 ? target_width : 10'000), target_width);
  std::string line = begin + target + "  " + painted(colour_of(status), state);
  const std::size_t used = begin.size() + columns_of(target) + 2 + state.size();
  return line + (width > 0 ? fitted(rest, width - std::min(width, used)) : rest);
}

std::string view_of(const Json& exchange, std::string_view request, std::string_view response) {
  const int status = exchange.value("status", 0);
  std::string out = painted(paint().bold, fmt::format("Exchange {}", exchange.value("number", std::uint64_t{0}))) +
                    "  " + shown(exchange["method"]) + " " + shown(exchange["target"]) + "  " +
                    painted(colour_of(status), status == 0 ? "no response" : std::to_string(status)) +
                    (exchange.value("in_progress", false) ? "  (in progress)" : "") + "\n";
  std::vector<std::pair<std::string, std::string>> facts = {
      {"When", clock_of(exchange.value("time", ""))},
      {"Client", fmt::format("{}, port {}", exchange.value("client", ""), exchange.value("client_port", 0))}};
  if (exchange.contains("site")) facts.emplace_back("Site", exchange.value("site", ""));
  facts.emplace_back("Answered by", exchange.value("answered_by", ""));
  if (exchange.contains("repeats"))
    facts.emplace_back("Repeats", std::to_string(exchange["repeats"].get<std::uint64_t>()));
  add_pairs(out, facts);
  add_message(out, "Request", exchange["request"], request, true);
  const bool has_body = exchange.value("method", "") != "HEAD" && status != 304 && status != 204;
  add_message(out, "Response", exchange["response"], response, has_body);
  add_timing(out, exchange["timing"]);
  for (const Json& run : exchange["runs"]) add_run(out, run);
  if (!exchange["trail"].empty()) add_heading(out, "How this was decided");
  std::size_t step = 0;
  for (const Json& line : exchange["trail"]) out += fmt::format("  {}. {}\n", ++step, shown(line));
  if (!exchange["findings"].empty()) add_heading(out, "Findings");
  for (const Json& finding : exchange["findings"]) {
    const std::string told = finding.value("text", "");
    for (const std::string_view line : text::parts_of(told, '\n'))
      if (!line.empty()) out += "  " + std::string(line) + "\n";
  }
  return out;
}

std::string view_of_difference(const Json& difference) {
  const std::string left = difference.value("left", "");
  const std::string right = difference.value("right", "");
  std::string out = painted(paint().bold, text::show_line(left) + " and " + text::show_line(right)) +
                    (difference.value("alike", false) ? "  alike" : "  differ") + "\n";
  if (difference.contains("status")) {
    const Json& status = difference["status"];
    if (status["left"] == status["right"]) {
      out += "  Status  " + json_text(status["left"]) + "\n";
    } else {
      add_sides(out, "Status", status, false);
    }
    for (const Json& field : difference["fields"]) add_sides(out, shown(field["name"]), field, false);
    if (const auto count = difference.value("fields_left_out", 0); count > 0) {
      std::vector<std::string> names;
      for (const Json& name : difference.value("names_left_out", Json::array())) names.push_back(shown(name));
      out += fmt::format("  Left out, since {} always or by chance: {}\n", count == 1 ? "it differs" : "they differ",
                         text::listed(names));
    }
    const Json& time = difference["milliseconds"];
    out += fmt::format("  Time    {} and {}\n", millis_text(time.value("left", 0.0)),
                       millis_text(time.value("right", 0.0)));
    if (difference.contains("peak_memory_kib")) {
      const auto size = [&](const char* side) {
        return text::format_size(difference["peak_memory_kib"].value(side, std::uint64_t{0}) * 1024);
      };
      out += "  Memory  at most " + size("left") + " and " + size("right") + "\n";
    }
    for (const Json& fact : difference["runs"]) add_sides(out, "Run: " + shown(fact["what"]), fact, false);
  }
  add_page(out, difference["page"]);
  return out;
}

}  // namespace porter::client
