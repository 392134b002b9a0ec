// Where a script failed, as its error stream tells it: each language has a form of its own, and all come down to a
// file, a line and a message.
#pragma once

#include <cstddef>
#include <functional>
#include <optional>
#include <span>
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

/// A syntax error that is met at the beginning of a line is mostly made at the end of the line before: the number of
/// that line, if nothing ends it; nullopt: the error is where it is told. `folders` as for source_around().
std::optional<std::size_t> line_left_open(const ErrorPlace& place, std::span<const std::string> folders);

/// The number that `text` is; 0 if it is none.
std::size_t line_number(std::string_view text);

/// The lines around line `line` of `file`, `around` before and after. None unless it is an ordinary file of a bounded
/// size that really lies below one of `folders`, with `is_shown` true for each name on the way: an error message may
/// name a terminal, a pipe without end, or any file of the machine. Never waits.
std::vector<SourceLine> source_around(const std::string& file, std::size_t line, std::size_t around,
                                      std::span<const std::string> folders,
                                      const std::function<bool(std::string_view)>& is_shown);

/// A file name between quotes in `line`, such as the one that a program could not open; nullopt if there is none.
std::optional<std::string> quoted_name(std::string_view line);

}  // namespace porter::script
