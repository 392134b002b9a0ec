// The interpreters that are known: which file name endings each runs, what its program is called, and the Debian
// package that brings it.
#pragma once

#include <span>
#include <string>
#include <string_view>

namespace porter::script {

struct Interpreter {
  std::string_view language;          ///< As people call it: "PHP".
  std::string_view program;           ///< The program that runs its scripts: "php-cgi".
  std::string_view version_argument;  ///< The argument that makes the program print its version; empty: none does.
  std::string_view package;           ///< The Debian package.
  std::string_view endings;           ///< Endings of its scripts, each with its dot, separated by spaces.
  enum class Where {
    anywhere,       ///< Its scripts run anywhere below the root.
    script_folder,  ///< They run in script folders, and are shown nowhere.
    shared_ending,  ///< They run in script folders; elsewhere the ending is that of files to be shown.
  } where = Where::script_folder;
  bool reserves_memory = false;  ///< Its runtime reserves more addresses than it uses, so they cannot be limited.
};

/// All of them, in the order in which they are shown.
std::span<const Interpreter> interpreters();

/// The interpreter whose endings include that of the file called `name`, whatever the case; nullptr if there is none.
const Interpreter* interpreter_for(std::string_view name);

/// The interpreter whose program is called `program`; nullptr if it is none that is known.
const Interpreter* interpreter_called(std::string_view program);

/// The version in what a program printed about itself: the first number with a dot in it ("8.2.36"); empty if there is
/// none.
std::string version_in(std::string_view output);

/// What the first line of a script says: "#!PROGRAM [ARGUMENT]".
struct FirstLine {
  std::string program;   ///< The path after "#!"; empty if there is no such line.
  std::string argument;  ///< The one optional argument: everything after the program.
  std::string text;      ///< The line itself, without its line feed.

  /// The name of the program that is meant in the end: for "/usr/bin/env perl -T" it is "perl".
  std::string meant() const;
};

/// Reads the first line from the `start` of a file.
FirstLine read_first_line(std::string_view start);

}  // namespace porter::script
