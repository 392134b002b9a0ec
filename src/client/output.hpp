// What the commands share when they speak to people: colour, exit statuses, problems.
#pragma once

#include <functional>
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <variant>
#include <vector>

#include "core/settings/read_settings.hpp"

namespace porter::client {

// Exit statuses of all commands.
inline constexpr int kFine = 0;
inline constexpr int kFailed = 1;  ///< What was asked for could not be done, or is not so.
inline constexpr int kBadUse = 2;  ///< A usage error, or a mistake in the settings.
inline constexpr int kAlreadyRunning = 4;

/// The command is to print one JSON document, or one on each line: facts as the control interface has them, or
/// {"findings": […]} where there are none. Said before the command begins.
void set_json_wanted();
bool is_json_wanted();
/// Prints the facts that a command was asked for, where JSON is wanted.
void print_json(const nlohmann::json& facts);
/// The same for one line of several.
void print_json_line(const nlohmann::json& facts);

/// Colours of a terminal; empty texts where output goes elsewhere or NO_COLOR is set.
struct Paint {
  std::string good, warn, bad, bold, plain;
};
const Paint& paint();

/// Refuses a settings file that was named and does not exist; true if it may be gone on.
bool exists_if_named(const std::string& settings);
/// What there is to say where there are none.
std::string no_settings_file(const std::string& file);

/// Tells of variables that were exported here and do not reach scripts, with the key that passes them on.
void tell_of_variables();

/// Prints lines, those that are wider than the terminal broken at spaces and indented; in a pipe they stay whole.
void print_wrapped(const std::string& lines, std::size_t indent);

/// A text in JSON, fit for a line of a terminal.
std::string shown(const nlohmann::json& text);

/// Prints a sentence to the error stream; the result is `status`.
int fail(const std::string& sentence, int status = kFailed);
// Where JSON is wanted, what these tell of is printed as JSON once the command is over.

/// Prints each problem of the settings to the error stream; kBadUse.
int fail(const std::vector<SettingsProblem>& problems);
/// The same for the findings in a response of the control interface; kFailed.
int fail_with(const nlohmann::json& body);
/// Prints the finding's sentence and what to do; kFailed.
int fail(const Finding& finding);

/// Why a file that the user has named cannot be read, with what to do.
struct Unreadable {
  std::string sentence;
};
/// All of the file called `path`.
std::variant<std::string, Unreadable> content_of_named(const std::string& path);
/// What `--body` names: a file, or "-" for standard input.
std::variant<std::string, Unreadable> body_from(const std::string& source);

/// Does `work`, the whole of `command`, and gives its exit status. No exception leaves a command: one that comes
/// this far is told as an error of the program's own, with what was being done. Errors that were to be told as JSON are
/// told now.
int guarded(const std::string& command, const std::function<int()>& work) noexcept;

}  // namespace porter::client
