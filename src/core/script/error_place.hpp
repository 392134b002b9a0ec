// Where a script failed, as its error stream tells it: each language has a form of its own, and all come down to a
// file, a line and a message.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace porter::script {

struct ErrorPlace {
  std::string file;  ///< A full path.
  std::size_t line = 0;
  std::string message;
};

/// The place that `error_text` names, of a run of the script at `script_path`: from a Python traceback, a PHP, Perl,
/// Ruby, shell, Lua, Tcl or JavaScript error. nullopt if it names none.
std::optional<ErrorPlace> find_error_place(std::string_view error_text, const std::string& script_path);

struct SourceLine {
  std::size_t number = 0;
  std::string text;
  bool is_marked = false;
};

/// The lines around line `line` of `file`, `around` before and after; none if it cannot be read.
std::vector<SourceLine> source_around(const std::string& file, std::size_t line, std::size_t around);

/// A file name between quotes in `line`, such as the one that a program could not open; nullopt if there is none.
std::optional<std::string> quoted_name(std::string_view line);

}  // namespace porter::script
