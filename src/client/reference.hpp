// The manual pages and the completions of the shells, made from the commands and options themselves, so that they
// cannot fall behind.
#pragma once

#include <string>

namespace CLI {
class App;
class Option;
}  // namespace CLI

namespace porter::client {

/// What the value of `option` is called, such as "PORT"; empty: it takes none.
std::string value_name(const CLI::Option& option);

/// Writes man/ and completions/ below `folder`; `settings` is the commented settings file that uporter.toml(5) is made
/// from. An exit status.
int write_reference(const CLI::App& app, const std::string& folder, const std::string& settings);

/// Prints what can stand in a place where `kind` is wanted, a line each, for completions: "sites" or "exchanges".
int print_values(const std::string& settings, const std::string& kind);

}  // namespace porter::client
