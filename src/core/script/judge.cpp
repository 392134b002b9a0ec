// From the facts of a run to its finding; the first reason that explains the others wins.
#include "core/script/judge.hpp"

#include <sys/stat.h>

#include <algorithm>
#include <cerrno>
#include <csignal>
#include <cstring>
#include <initializer_list>

#include "core/files/paths.hpp"
#include "core/http/head.hpp"
#include "core/script/error_place.hpp"
#include "core/script/missing_module.hpp"
#include "core/text/text.hpp"

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

namespace {

bool contains_any(std::string_view text, std::initializer_list<std::string_view> words) {
  return std::any_of(words.begin(), words.end(), [&](std::string_view word) { return text.find(word) != text.npos; });
}

/// The last line of `text` that holds one of `words`; empty if none does.
std::string line_with(std::string_view text, std::initializer_list<std::string_view> words) {
  std::string found;
  for (const std::string& line : last_lines(text, 200))
    if (contains_any(line, words)) found = line;
  return found;
}

bool exists(const std::string& path) {
  struct stat info {};
  return ::stat(path.c_str(), &info) == 0;
}

/// `to` as seen from the folder `from`, such as "../data/tides.csv". Both are full paths.
std::string relative_path(const std::string& from, const std::string& to) {
  std::string up;
  std::string base = from;
  while (!to.starts_with(base + "/") && !base.empty()) {
    base.erase(base.rfind('/'));
    up += "../";
  }
  return up + to.substr(base.size() + 1);
}

/// The finding for a first line whose program is not found.
Finding first_line_problem(const std::string& path, const std::string& command, const FirstLine& line) {
  std::string name = line.meant();
  Finding out{Code::interpreter_not_found,
              {{"file", path}, {"file_quoted", text::shell_word(path)}, {"command", command}}};
  if (line.text.ends_with('\r')) {
    while (name.ends_with('\r')) name.pop_back();
    out.code = Code::first_line_carriage_return;
    out.facts.emplace_back("program", name);
    return out;
  }
  const bool is_by_env = files::base_name(line.program) == "env";
  out.facts.emplace_back("line", first_line_shown(line.text));
  out.facts.emplace_back("program", is_by_env ? name : line.program);
  std::vector<std::string> known = {"bash", "python", "python3", "node", "lua5.4"};
  for (const Interpreter& interpreter : usual_interpreters()) known.push_back(interpreter.program);
  std::string near = name;
  if (!text::contains(known, name)) near = text::nearest(name, known).value_or(name);
  // "python" leads to nothing on Debian, where the program is called python3.
  if (near == "python") near = "python3";
  out.facts.emplace_back("name", near);
  if (const Interpreter* const interpreter = interpreter_called(usual_interpreters(), name))
    out.facts.emplace_back("package", interpreter->package);
  if (near != name) out.facts.emplace_back("nearest", near);
  return out;
}

/// The line of an error stream that tells what went wrong: not a frame of a stack, nor a closing remark of the
/// language.
std::string telling_line(std::string_view error_text) {
  constexpr std::size_t kMostLooked = 60;
  const auto lines = last_lines(error_text, kMostLooked);
  std::string best;
  std::string last;
  for (std::size_t i = 0; i < lines.size(); ++i) {
    const std::string_view line = http::trim(lines[i]);
    const bool is_frame = line.starts_with("at ") || (line.starts_with("... ") && line.ends_with(" more"));
    if (is_frame || line == "Execution halted" || line.starts_with("Node.js v")) continue;
    last = lines[i];
    // "Error in f(x) :" has its message in the next line.
    const std::size_t word_end = line.find_first_of(" :");
    const std::string_view word = line.substr(0, word_end);
    const bool names_error = word.ends_with("Error") || word.ends_with("Exception") ||
                             line.starts_with("Exception in thread") || line.starts_with("Caused by:") ||
                             line.starts_with("Error in ");
    if (!names_error) continue;
    best = lines[i];
    if (line.starts_with("Error in ") && line.ends_with(":") && i + 1 < lines.size())
      best += " " + std::string(http::trim(lines[i + 1]));
  }
  return best.empty() ? last : best;
}

/// The name below .localhost that a program could not find; nullopt: none.
std::optional<std::string> unknown_localhost(std::string_view error_text) {
  constexpr std::string_view kSaid[] = {"getaddrinfo",     "ENOTFOUND",        "Could not resolve host", "not known",
                                        "name resolution", "resolve hostname", "nodename nor servname"};
  constexpr std::string_view kEnd = ".localhost";
  for (const std::string_view line : text::parts_of(error_text, '\n')) {
    const std::size_t at = line.find(kEnd);
    const auto is_in = [line](std::string_view said) { return line.find(said) != line.npos; };
    if (at == line.npos || std::none_of(std::begin(kSaid), std::end(kSaid), is_in)) continue;
    constexpr std::string_view kLetters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-.";
    const std::size_t before = line.find_last_not_of(kLetters, at);
    const std::size_t begin = before == line.npos ? 0 : before + 1;
    return std::string(line.substr(begin, at + kEnd.size() - begin));
  }
  return std::nullopt;
}

/// Judges one run, asking the narrowest question first: what has a remedy of its own comes before what only tells that
/// something failed.
class Judge {
 public:
  explicit Judge(const RunReport& report) : report_(report) {
    if (std::string line = telling_line(report.error_text); !line.empty()) last_.push_back(std::move(line));
  }

  std::optional<Finding> verdict() const {
    if (report_.was_too_slow)
      return finding(Code::script_too_slow, {{"seconds", std::to_string(report_.seconds_allowed)}});
    if (report_.was_stopped) return std::nullopt;
    if (report_.failure) return failure_with_file();
    if (report_.head_limit > 0)
      return finding(Code::script_head_too_large, {{"limit", std::to_string(report_.head_limit)}});
    if (has_failed(report_) || is_silent_error()) return failure();
    return report_.head ? page_problem() : head_problem();
  }

  Finding content_type_missing() const { return finding(Code::no_content_type, {}); }

 private:
  Finding finding(Code code, std::vector<Fact> facts) const {
    facts.insert(
        facts.begin(),
        {{"file", report_.path}, {"file_quoted", text::shell_word(report_.path)}, {"command", report_.command}});
    if (!last_.empty()) facts.emplace_back("last", last_.back());
    return {code, std::move(facts)};
  }
  Finding finding_on(Code code, std::string line, std::vector<Fact> facts) const {
    facts.emplace_back("last", std::move(line));
    return finding(code, std::move(facts));
  }

  Finding failure_with_file() const {
    Finding out = *report_.failure;
    out.facts.insert(out.facts.begin(), {{"file", report_.path}, {"command", report_.command}});
    if (!last_.empty()) out.facts.emplace_back("last", last_.back());
    return out;
  }

  /// PHP ends with status 0 or 255 after an error, and tells of it by an empty page with status 500.
  bool is_silent_error() const {
    return report_.head && report_.head->status == 500 && report_.body_written == 0 && !report_.error_text.empty();
  }

  Finding failure() const {
    if (report_.signal == SIGXCPU)
      return finding(Code::out_of_processor_time, {{"seconds", std::to_string(report_.processor_time)}});
    for (const auto& question : {&Judge::first_line, &Judge::local_name, &Judge::missing_module, &Judge::sanitizer,
                                 &Judge::memory, &Judge::missing_library, &Judge::wrong_folder, &Judge::forbidden_write,
                                 &Judge::too_little_input, &Judge::named_place})
      if (auto response = (this->*question)()) return std::move(*response);
    if (report_.signal)
      return finding(Code::script_killed,
                     {{"signal", std::to_string(*report_.signal)}, {"name", signal_name(*report_.signal)}});
    return finding(Code::script_failed, {{"status", std::to_string(report_.exit_status.value_or(0))}});
  }

  /// The program that the first line names by env is not found by that one, and it ends as a shell does then.
  std::optional<Finding> first_line() const {
    const FirstLine line = read_first_line(report_.start);
    if (line.argument.empty() || report_.error_text.find("env: ") == std::string::npos) return std::nullopt;
    return first_line_problem(report_.path, report_.command, line);
  }

  std::optional<Finding> local_name() const {
    const auto name = unknown_localhost(report_.error_text);
    if (!name) return std::nullopt;
    return finding(Code::localhost_unknown, {{"name", *name}});
  }

  std::optional<Finding> missing_module() const {
    const auto missing = find_missing_module(report_.error_text, files::folder_of(report_.path));
    if (!missing) return std::nullopt;
    std::vector<Fact> facts = {{"module", missing->module},
                               {"language", missing->language},
                               {"packages", missing->packages},
                               {"install", missing->command}};
    if (const auto place = find_error_place(report_.error_text, report_.path)) {
      facts.emplace_back("place", place->file);
      facts.emplace_back("line", std::to_string(place->line));
    }
    return finding(Code::module_missing, std::move(facts));
  }

  /// Programs that were compiled with a sanitizer reserve terabytes of addresses.
  std::optional<Finding> sanitizer() const {
    std::string line = line_with(report_.error_text, {"ReserveShadowMemoryRange failed", "Sanitizer failed to allocate",
                                                      "Shadow memory range interleaves"});
    if (line.empty() || report_.address_space == 0) return std::nullopt;
    return finding_on(Code::sanitizer_needs_addresses, std::move(line),
                      {{"limit", text::format_limit(report_.address_space)}});
  }

  std::optional<Finding> memory() const {
    std::string line = line_with(report_.error_text,
                                 {"MemoryError", "Out of memory", "out of memory", "bad_alloc", "not enough memory",
                                  "Cannot allocate memory", "failed to allocate memory", "Allowed memory size"});
    if (line.empty()) return std::nullopt;
    if (line.find("Allowed memory size") != line.npos) return finding_on(Code::php_memory_limit, std::move(line), {});
    std::vector<Fact> facts;
    if (report_.address_space > 0) facts.emplace_back("limit", text::format_limit(report_.address_space));
    return finding_on(Code::out_of_memory, std::move(line), std::move(facts));
  }

  std::optional<Finding> missing_library() const {
    constexpr std::string_view kMark = "error while loading shared libraries: ";
    const std::string line = line_with(report_.error_text, {kMark});
    if (line.empty()) return std::nullopt;
    const std::string rest = line.substr(line.find(kMark) + kMark.size());
    return finding(Code::library_missing, {{"library", rest.substr(0, rest.find(':'))}});
  }

  /// A relative name that cannot be opened, though a file of that name lies where the script's author looked from.
  std::optional<Finding> wrong_folder() const {
    const std::string line = line_with(report_.error_text, {"No such file or directory", "cannot open"});
    const auto wanted = line.empty() ? std::nullopt : name_in(line);
    if (!wanted || wanted->starts_with('/')) return std::nullopt;
    const std::string folder(files::folder_of(report_.path));
    std::string plain = *wanted;
    while (plain.starts_with("../") || plain.starts_with("./")) plain.erase(0, plain.find('/') + 1);
    for (std::string place = folder; place.size() >= files::folder_of(report_.document_root).size() && !place.empty();
         place = std::string(files::folder_of(place))) {
      const std::string candidate = place + "/" + plain;
      if (candidate == folder + "/" + *wanted || !exists(candidate)) continue;
      return finding_on(Code::wrong_working_directory, line,
                        {{"wanted", *wanted},
                         {"folder", folder},
                         {"found", candidate},
                         {"relative", relative_path(folder, candidate)}});
    }
    return std::nullopt;
  }

  std::optional<Finding> forbidden_write() const {
    const std::string line =
        line_with(report_.error_text, {"Permission denied", "Read-only file system", "Operation not permitted"});
    const auto wanted = line.empty() ? std::nullopt : name_in(line);
    if (!wanted) return std::nullopt;
    const std::string path =
        wanted->starts_with('/') ? *wanted : std::string(files::folder_of(report_.path)) + "/" + *wanted;
    const std::string blocking = exists(path) ? path : std::string(files::folder_of(path));
    return finding_on(Code::write_not_permitted, line,
                      {{"wanted", *wanted}, {"wanted_quoted", text::shell_word(blocking)}});
  }

  std::optional<Finding> too_little_input() const {
    std::string line = line_with(report_.error_text, {"EOFError", "end of file reached", "unexpected end of input"});
    if (line.empty()) return std::nullopt;
    return finding_on(Code::read_past_input, std::move(line), {{"length", std::to_string(report_.input_length)}});
  }

  std::optional<Finding> named_place() const {
    const auto place = find_error_place(report_.error_text, report_.path);
    if (!place || place->message.empty()) return std::nullopt;
    std::vector<Fact> facts = {
        {"place", place->file}, {"line", std::to_string(place->line)}, {"message", place->message}};
    const std::string folders[] = {report_.document_root, std::string(files::folder_of(report_.path))};
    if (const auto open = line_left_open(*place, folders)) facts.emplace_back("open_line", std::to_string(*open));
    return finding(Code::script_error, std::move(facts));
  }

  /// The file name that an error line names: between quotes, or, as shells and Perl have it, between colons.
  std::optional<std::string> name_in(std::string_view line) const {
    if (auto quoted = quoted_name(line)) return quoted;
    constexpr std::string_view kReasons[] = {": No such file", ": Permission denied", ": Read-only",
                                             ": Directory nonexistent"};
    for (const std::string_view reason : kReasons) {
      const std::size_t end = line.find(reason);
      if (end == line.npos) continue;
      const std::size_t start = line.rfind(' ', end);
      return std::string(line.substr(start == line.npos ? 0 : start + 1, end - (start == line.npos ? 0 : start + 1)));
    }
    return std::nullopt;
  }

  std::optional<Finding> page_problem() const {
    if (!report_.body_was_expected) return std::nullopt;
    if (report_.head->content_length) {
      const std::uint64_t announced = *report_.head->content_length;
      const std::vector<Fact> facts = {{"announced", std::to_string(announced)},
                                       {"written", std::to_string(report_.body_written)}};
      if (report_.body_written < announced) return finding(Code::body_shorter, facts);
      if (report_.body_written > announced) return finding(Code::body_longer, facts);
    }
    if (report_.head->lacks_content_type() && report_.body_written > 0) return content_type_missing();
    return std::nullopt;
  }

  std::optional<Finding> head_problem() const {
    if (report_.output_start.empty())
      return finding(last_.empty() ? Code::script_wrote_nothing : Code::only_error_stream, {});
    if (report_.head_problem && report_.head_problem->kind == ScriptHeadProblem::Kind::malformed_line)
      return finding(Code::script_head_malformed, {{"line", std::to_string(report_.head_problem->line)},
                                                   {"text", first_line_shown(report_.head_problem->text)}});
    return finding(Code::script_no_response_head, {{"output", first_line_shown(report_.output_start)}});
  }

  const RunReport& report_;
  std::vector<std::string> last_;
};

}  // namespace

bool has_failed(const RunReport& report) {
  if (report.signal || report.exit_status.value_or(0) != 0 || report.failure) return true;
  // A pooled process goes on after an error, and what it says of the run's end is nothing; but an error that has ended
  // one is told as such.
  return !report.exit_status &&
         contains_any(report.error_text, {"PHP Fatal error:", "PHP Parse error:", "PHP Recoverable fatal error:"});
}

std::optional<Finding> judge_run(const RunReport& report) { return Judge(report).verdict(); }

std::optional<Finding> remark_on(const std::string& path, std::string_view error_text) {
  if (auto name = unknown_localhost(error_text))
    return Finding{Code::localhost_unknown, {{"file", path}, {"name", std::move(*name)}}};
  // "sh: 1: /usr/sbin/sendmail: not found", and what other shells say.
  for (const std::string_view line : text::parts_of(error_text, '\n')) {
    constexpr std::string_view kTooLarge = "POST Content-Length of ";
    constexpr std::string_view kLimit = " exceeds the limit of ";
    if (const std::size_t sent = line.find(kTooLarge), limit = line.find(kLimit);
        line.find("PHP Warning:") != line.npos && sent != line.npos && limit != line.npos) {
      const auto number_at = [&line](std::size_t begin) {
        return std::string(line.substr(begin, line.find_first_not_of("0123456789", begin) - begin));
      };
      return Finding{Code::php_post_too_large,
                     {{"file", path},
                      {"length", number_at(sent + kTooLarge.size())},
                      {"limit", number_at(limit + kLimit.size())}}};
    }
    const std::size_t at = line.find("sendmail");
    if (!line.starts_with("sh: ") || at == line.npos || line.find("not found", at) == line.npos) continue;
    const std::size_t begin = line.rfind(' ', at) + 1;
    return Finding{Code::mail_program_missing,
                   {{"file", path}, {"program", std::string(line.substr(begin, line.find(':', at) - begin))}}};
  }
  return std::nullopt;
}

bool holds_short_tag(std::string_view page) {
  for (std::size_t at = 0; (at = page.find("<?", at)) != page.npos; at += 2)
    if (at + 2 < page.size() && std::string_view(" \t\r\n").find(page[at + 2]) != std::string_view::npos) return true;
  return false;
}

Finding content_type_missing(const RunReport& report) { return Judge(report).content_type_missing(); }

Finding judge_start(const std::string& path, const std::string& command, int error, std::string_view start) {
  const FirstLine line = read_first_line(start);
  const std::vector<Fact> facts = {{"file", path}, {"file_quoted", text::shell_word(path)}, {"command", command}};
  const auto finding = [&](Code code, std::vector<Fact> more) {
    more.insert(more.begin(), facts.begin(), facts.end());
    return Finding{code, std::move(more)};
  };
  constexpr std::string_view kMark = "\xef\xbb\xbf";
  if (is_compiled(start)) {
    if (error == ENOEXEC) return finding(Code::wrong_architecture, {});
    if (error == ENOENT) return finding(Code::wrong_architecture, {{"reason", "its loader is not installed"}});
  }
  if (error == ENOEXEC && start.starts_with("\xef\xbb\xbf#!"))
    return finding(Code::byte_order_mark, {{"line", first_line_shown(start.substr(kMark.size()))}});
  if ((error == ENOENT || error == EACCES || error == ENOTDIR || error == ELOOP) && !line.program.empty())
    return first_line_problem(path, command, line);
  if (error == ENOEXEC) return finding(Code::script_not_a_program, {});
  return finding(Code::script_start_failed, {{"reason", std::strerror(error)}});
}

}  // namespace porter::script
