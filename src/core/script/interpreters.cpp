// The table of interpreters, and the reading of first lines.
#include "core/script/interpreters.hpp"

#include <algorithm>

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
