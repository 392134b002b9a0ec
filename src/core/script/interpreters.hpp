// Interpreters: which file name endings each runs, what its program is called, and the Debian package that brings it.
// Settings may change those that are known and add others.
#pragma once

#include <chrono>
#include <cstddef>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace porter::script {

/// Whether an interpreter's processes stay for one run after another, which they must speak FastCGI for, and how.
struct Persistence {
  std::optional<bool> is_wanted;  ///< nullopt: PHP's CGI program is, and whatever external servers answer.
  std::size_t processes = 0;      ///< At most so many work at once for one site; 0: as many as scripts may.
  /// Another process takes its place after so many runs; nullopt: after 10,000.
  std::optional<std::size_t> runs_each;
  std::chrono::seconds idle_time{300};  ///< One without work ends after that.
  /// Where others have started them, "unix:/PATH" or "HOST:PORT"; none: the server starts them.
  std::vector<std::string> external{};

  bool operator==(const Persistence&) const = default;
};

struct Interpreter {
  std::string language;          ///< As people call it: "PHP".
  std::string program;           ///< The program that runs its scripts: "php-cgi", or a path.
  std::string version_argument;  ///< The argument that makes the program print its version; empty: none does.
  std::string package;           ///< The Debian package; empty: not known.
  std::string endings;           ///< Endings of its scripts, each with its dot, separated by spaces.
  enum class Where {
    anywhere,       ///< Its scripts run anywhere below the root.
    script_folder,  ///< They run in script folders, and are shown nowhere.
    shared_ending,  ///< They run in script folders; elsewhere the ending is that of files to be shown.
  } where = Where::script_folder;
  bool reserves_memory = false;          ///< Its runtime reserves more addresses than it uses: they cannot be limited.
  std::vector<std::string> arguments{};  ///< Between the program and the script's path.
  std::vector<std::string> environment{};                       ///< "NAME=value", added for its scripts.
  std::vector<std::pair<std::string, std::uint64_t>> limits{};  ///< For its scripts, by name.
  Persistence persistence{};
  std::string folder{};         ///< Where its processes are started; empty: in the document root.
  std::string fresh_setting{};  ///< The line of the settings that has it start for each request; empty: the usual one.
  std::vector<std::pair<std::string, std::string>> directives{};  ///< Of PHP, in place of those of its php.ini.

  bool operator==(const Interpreter&) const = default;
  /// True if its scripts are run by PHP, as its program's name says, or its language's where others have started it.
  bool is_php() const;
  /// True if its runs share persistent processes.
  bool is_persistent() const;
};

/// Where a program that others have started takes its requests.
struct ExternalAddress {
  std::string path;  ///< Of a socket; empty: it is a host and a port.
  std::string host;  ///< A name or an IP address, without brackets.
  std::uint16_t port = 0;
};

/// Reads "unix:/PATH", "HOST:PORT" or "[IPV6]:PORT"; nullopt: it is neither.
std::optional<ExternalAddress> parse_external(std::string_view written);

/// How a directive is told to PHP, by -d or PHP_VALUE: a line of a php.ini.
std::string directive_line(const std::string& name, const std::string& value);

/// Those that are known without any settings, in the order in which they are shown.
const std::vector<Interpreter>& usual_interpreters();

/// The one among `all` whose endings include that of the file called `name`, whatever the case; nullptr if there is
/// none.
const Interpreter* interpreter_for(const std::vector<Interpreter>& all, std::string_view name);

/// The one whose program is called `program` (its last part, if it is a path); nullptr if there is none.
const Interpreter* interpreter_called(const std::vector<Interpreter>& all, std::string_view program);

/// The version in what a program printed about itself: the first number with a dot in it ("8.2.36"); empty if there is
/// none.
std::string version_in(std::string_view output);

/// True if a file that begins with `start` is a compiled program.
inline bool is_compiled(std::string_view start) {
  return start.starts_with(
      "\x7f"
      "ELF");
}

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
