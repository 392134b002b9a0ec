// The table of interpreters, and the reading of first lines.
#include "core/script/interpreters.hpp"

#include <algorithm>
#include <charconv>

#include "core/files/paths.hpp"
#include "core/http/head.hpp"

namespace porter::script {
namespace {

bool has_ending(std::string_view name, std::string_view ending) {
  return name.size() > ending.size() && http::same_name(name.substr(name.size() - ending.size()), ending);
}

std::string_view next_word(std::string_view& text) {
  text = http::trim(text);
  const std::string_view word = text.substr(0, text.find_first_of(" \t"));
  text.remove_prefix(word.size());
  return word;
}

}  // namespace

const std::vector<Interpreter>& usual_interpreters() {
  static const std::vector<Interpreter> kAll = {
      {"PHP", "php-cgi", "-v", "php-cgi", ".php .phtml", Interpreter::Where::anywhere},
      {"Perl", "perl", "-v", "perl", ".pl .cgi"},
      {"Python", "python3", "--version", "python3", ".py"},
      {"Ruby", "ruby", "--version", "ruby", ".rb"},
      {"Lua", "lua", "-v", "lua5.4", ".lua"},
      {"Tcl", "tclsh", "", "tcl", ".tcl"},
      {"Shell", "sh", "", "dash", ".sh"},
      {"JavaScript", "node", "--version", "nodejs", ".js .mjs .cjs", Interpreter::Where::shared_ending, true},
      {"Java", "java", "-version", "default-jdk-headless", ".java", Interpreter::Where::script_folder, true},
      {"R", "Rscript", "--version", "r-base-core", ".R"},
  };
  return kAll;
}

bool Interpreter::is_php() const {
  const std::string_view name = files::base_name(program);
  return name.starts_with("php") || (!persistence.external.empty() && http::same_name(language, "PHP"));
}

bool Interpreter::is_persistent() const {
  return persistence.is_wanted.value_or(!persistence.external.empty() ||
                                        files::base_name(program).starts_with("php-cgi"));
}

std::optional<ExternalAddress> parse_external(std::string_view written) {
  constexpr std::string_view kUnix = "unix:";
  if (written.find('\0') != written.npos) return std::nullopt;
  if (written.starts_with(kUnix)) {
    // As long as a socket's address can be.
    constexpr std::size_t kLongest = 107;
    const std::string_view path = written.substr(kUnix.size());
    if (!path.starts_with('/') || path.size() > kLongest) return std::nullopt;
    return ExternalAddress{std::string(path), {}, 0};
  }
  const std::size_t colon = written.rfind(':');
  if (colon == written.npos || colon == 0) return std::nullopt;
  std::string_view host = written.substr(0, colon);
  const std::string_view digits = written.substr(colon + 1);
  ExternalAddress out;
  const auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), out.port);
  if (error != std::errc{} || end != digits.data() + digits.size() || out.port == 0) return std::nullopt;
  const bool is_bracketed = host.starts_with('[') && host.ends_with(']');
  if (is_bracketed) host = host.substr(1, host.size() - 2);
  if (host.empty() || (!is_bracketed && host.find(':') != host.npos) || host.find_first_of(" /[]@\t\r\n") != host.npos)
    return std::nullopt;
  out.host = host;
  return out;
}

std::string directive_line(const std::string& name, const std::string& value) {
  // Constants, such as E_ALL & ~E_NOTICE, are none any more between quotes.
  constexpr std::string_view kOfConstants = "ABCDEFGHIJKLMNOPQRSTUVWXYZ_0123456789 |&~^!()";
  if (!value.empty() && value.find_first_not_of(kOfConstants) == value.npos) return name + "=" + value;
  // Between single quotes nothing has a meaning of its own, but they cannot hold one.
  if (value.find('\'') == value.npos) return name + "='" + value + "'";
  std::string out = name + "=\"";
  for (const char c : value) {
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  return out + "\"";
}

const Interpreter* interpreter_for(const std::vector<Interpreter>& all, std::string_view name) {
  // Each ending begins with a dot, and most programs have none.
  if (name.find('.') == name.npos) return nullptr;
  for (const Interpreter& interpreter : all) {
    for (std::string_view rest = interpreter.endings; !rest.empty();) {
      const std::size_t end = std::min(rest.find(' '), rest.size());
      if (has_ending(name, rest.substr(0, end))) return &interpreter;
      rest.remove_prefix(std::min(end + 1, rest.size()));
    }
  }
  return nullptr;
}

const Interpreter* interpreter_called(const std::vector<Interpreter>& all, std::string_view program) {
  const auto found = std::find_if(all.begin(), all.end(),
                                  [&](const Interpreter& i) { return files::base_name(i.program) == program; });
  return found == all.end() ? nullptr : &*found;
}

std::string version_in(std::string_view output) {
  const auto digit = [](char c) { return c >= '0' && c <= '9'; };
  for (std::size_t i = 0; i < output.size(); ++i) {
    if (!digit(output[i])) continue;
    std::size_t end = i;
    while (end < output.size() && (digit(output[end]) || output[end] == '.')) ++end;
    std::string_view version = output.substr(i, end - i);
    while (version.ends_with('.')) version.remove_suffix(1);
    if (version.find('.') != version.npos) return std::string(version);
    i = end;
  }
  return {};
}

FirstLine read_first_line(std::string_view start) {
  FirstLine line;
  line.text = std::string(start.substr(0, start.find('\n')));
  if (!line.text.starts_with("#!")) return line;
  std::string_view rest = std::string_view(line.text).substr(2);
  line.program = std::string(next_word(rest));
  line.argument = std::string(http::trim(rest));
  return line;
}

std::string FirstLine::meant() const {
  if (files::base_name(program) != "env") return std::string(files::base_name(program));
  std::string_view rest = argument;
  std::string_view word = next_word(rest);
  while (word.starts_with('-') || word.find('=') != word.npos) word = next_word(rest);
  return std::string(files::base_name(word));
}

}  // namespace porter::script
