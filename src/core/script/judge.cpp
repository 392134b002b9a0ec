// From the facts of a run to its finding; the first reason that explains the others wins.
#include "core/script/judge.hpp"

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "core/http/head.hpp"

namespace porter::script {
namespace {

constexpr std::size_t kMostShown = 200;

/// The first line of `text`, cut to a length that a sentence can bear.
std::string first_line_shown(std::string_view text) {
  text = text.substr(0, text.find_first_of("\r\n"));
  std::string out(text.substr(0, kMostShown));
  if (text.size() > kMostShown) out += "…";
  return out;
}

}  // namespace

std::vector<std::string> last_lines(std::string_view text, std::size_t count) {
  std::vector<std::string> out;
  while (!text.empty() && out.size() < count) {
    const std::size_t feed = text.rfind('\n');
    const std::size_t start = feed == text.npos ? 0 : feed + 1;
    std::string_view line = text.substr(start);
    if (line.ends_with('\r')) line.remove_suffix(1);
    if (!http::trim(line).empty()) out.emplace_back(line);
    text = text.substr(0, feed == text.npos ? 0 : feed);
  }
  std::reverse(out.begin(), out.end());
  return out;
}

std::string signal_name(int signal) {
  const char* const name = ::sigabbrev_np(signal);
  return name == nullptr ? "SIG" + std::to_string(signal) : std::string("SIG") + name;
}

std::optional<Finding> judge_run(const RunReport& report) {
  std::vector<Fact> facts = {{"file", report.path}, {"command", report.command}};
  const auto last = last_lines(report.error_text, 1);
  if (!last.empty()) facts.emplace_back("last", last.back());
  const auto finding = [&](Code code, std::vector<Fact> more) {
    facts.insert(facts.end(), more.begin(), more.end());
    return Finding{code, facts};
  };
  if (report.was_too_slow) return finding(Code::script_too_slow, {{"seconds", std::to_string(report.seconds_allowed)}});
  if (report.head_limit > 0)
    return finding(Code::script_head_too_large, {{"limit", std::to_string(report.head_limit)}});
  if (report.signal != 0)
    return finding(Code::script_killed,
                   {{"signal", std::to_string(report.signal)}, {"name", signal_name(report.signal)}});
  if (report.exit_status != 0) return finding(Code::script_failed, {{"status", std::to_string(report.exit_status)}});
  if (report.has_head) return std::nullopt;
  if (report.output_start.empty()) return finding(Code::script_wrote_nothing, {});
  if (report.head_problem && report.head_problem->kind == AnswerHeadProblem::Kind::malformed_line)
    return finding(Code::script_head_malformed, {{"line", std::to_string(report.head_problem->line)},
                                                 {"text", first_line_shown(report.head_problem->text)}});
  return finding(Code::script_no_answer_head, {{"output", first_line_shown(report.output_start)}});
}

Finding judge_start(const std::string& path, const std::string& command, int error, std::string_view start) {
  const FirstLine line = read_first_line(start);
  if ((error == ENOENT || error == EACCES || error == ENOTDIR || error == ELOOP) && !line.program.empty()) {
    const std::string name = line.meant();
    Finding finding{Code::interpreter_not_found,
                    {{"file", path}, {"line", first_line_shown(line.text)}, {"program", line.program}, {"name", name}}};
    if (const Interpreter* const known = interpreter_called(name))
      finding.facts.emplace_back("package", std::string(known->package));
    return finding;
  }
  if (error == ENOEXEC) return {Code::script_not_a_program, {{"file", path}}};
  return {Code::script_start_failed, {{"file", path}, {"reason", std::strerror(error)}, {"command", command}}};
}

}  // namespace porter::script
