// Problem pages, for a browser and as plain text. All sentences come from the catalogue of findings.
#include "server/pages/problem_page.hpp"

#include <fmt/format.h>

#include <iterator>

#include "core/http/status.hpp"
#include "core/text/text.hpp"
#include "server/pages/frame.hpp"

namespace porter::server::pages {
namespace {

std::string status_line(int status) { return fmt::format("{} {}", status, http::reason_phrase(status)); }

/// The file on disk that the finding is about; empty if it is about none.
std::string_view file_of(const Finding& finding) {
  if (const auto file = finding.fact("file")) return *file;
  return finding.fact("folder").value_or("");
}

}  // namespace

std::string problem_html(const Problem& problem) {
  using text::escape_html;
  std::string out;
  const auto into = std::back_inserter(out);
  const Finding& finding = problem.finding;
  fmt::format_to(into, "<p class=\"status\">{}</p>\n<h1>{}</h1>\n", status_line(status_of(finding.code)),
                 escape_html(title_of(finding.code)));
  fmt::format_to(into, "<p class=\"lead\">{}</p>\n<h2>What to do</h2>\n<div class=\"remedy\">{}",
                 escape_html(sentence_of(finding)), escape_html(advice_of(finding)));
  if (const std::string command = command_of(finding); !command.empty())
    fmt::format_to(into, "\n<pre>{}</pre>", escape_html(command));
  out += "</div>\n";
  if (!problem.note.empty()) fmt::format_to(into, "<p>{}</p>\n", escape_html(problem.note));
  if (!problem.source.empty()) {
    out += "<h2>The source around it</h2>\n<pre>";
    for (const script::SourceLine& line : problem.source)
      fmt::format_to(into, "<span{}>{:>5}  {}</span>\n", line.is_marked ? " class=\"mark\"" : "", line.number,
                     escape_html(line.text));
    out += "</pre>\n";
  }
  if (!problem.written.errors.empty()) {
    out += "<h2>The end of the script's error stream</h2>\n<pre>";
    for (const std::string& line : problem.written.errors) out += escape_html(line) + "\n";
    out += "</pre>\n";
  }
  if (!problem.written.page.empty())
    fmt::format_to(into, "<h2>What the script had printed before</h2>\n<pre>{}</pre>\n",
                   escape_html(problem.written.page));
  out += "<h2>The request</h2>\n<dl>\n";
  if (!problem.asked.empty())
    fmt::format_to(into, "<dt>Asked for</dt><dd class=\"mono\">{}</dd>\n", escape_html(problem.asked));
  if (const auto file = file_of(finding); !file.empty())
    fmt::format_to(into, "<dt>On disk</dt><dd class=\"mono\">{}</dd>\n", escape_html(file));
  fmt::format_to(into, "<dt>Finding</dt><dd class=\"mono\">{}</dd>\n", code_name(finding.code));
  if (!problem.console_url.empty())
    fmt::format_to(into, "<dt>Exchange</dt><dd><a href=\"{}\">See all of it in the console</a></dd>\n",
                   escape_html(problem.console_url));
  out += "</dl>\n";
  if (!problem.trail.empty()) {
    out += "<h2>How this was decided</h2>\n<ol>\n";
    for (const std::string& step : problem.trail) fmt::format_to(into, "<li>{}</li>\n", escape_html(step));
    out += "</ol>\n";
  }
  return frame(fmt::format("{} – {}", status_of(finding.code), title_of(finding.code)), out);
}

std::string problem_text(const Problem& problem) {
  std::string out;
  const auto into = std::back_inserter(out);
  const Finding& finding = problem.finding;
  fmt::format_to(into, "{}: {} ({})\n\n{}\n", status_line(status_of(finding.code)), title_of(finding.code),
                 code_name(finding.code), text::escape_line(sentence_of(finding)));
  fmt::format_to(into, "What to do: {}\n\n", text::escape_lines(remedy_of(finding), "    "));
  if (!problem.note.empty()) fmt::format_to(into, "Note:       {}\n", text::escape_line(problem.note));
  if (!problem.asked.empty()) fmt::format_to(into, "Asked for:  {}\n", text::escape_line(problem.asked));
  if (const auto file = file_of(finding); !file.empty())
    fmt::format_to(into, "On disk:    {}\n", text::escape_line(file));
  if (!problem.source.empty()) {
    out += "\nThe source around it:\n";
    for (const script::SourceLine& line : problem.source)
      fmt::format_to(into, "{} {:>5}  {}\n", line.is_marked ? '>' : ' ', line.number, text::show_line(line.text));
  }
  if (!problem.written.errors.empty()) out += "\nThe end of the script's error stream:\n";
  for (const std::string& line : problem.written.errors) fmt::format_to(into, "  {}\n", text::show_line(line));
  if (!problem.written.page.empty()) out += "\nWhat the script had printed before:\n";
  for (std::string_view rest = problem.written.page; !rest.empty();) {
    const std::size_t end = std::min(rest.find('\n'), rest.size());
    fmt::format_to(into, "  {}\n", text::show_line(rest.substr(0, end)));
    rest.remove_prefix(std::min(end + 1, rest.size()));
  }
  return out;
}

std::string reserved_html(int status, std::string_view number) {
  return frame(
      status_line(status),
      fmt::format("<p class=\"status\">{0}</p>\n<h1>This page cannot be shown</h1>\n"
                  "<p class=\"lead\">The reason is in the server's log, under the number <code>{1}</code>.</p>\n",
                  status_line(status), text::escape_html(number)));
}

std::string reserved_text(int status, std::string_view number) {
  return fmt::format("{}\nThe reason is in the server's log, under the number {}.\n", status_line(status), number);
}

}  // namespace porter::server::pages
