// The servers of this user that run, and which of them a command is about.
#pragma once

#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "core/findings/finding.hpp"
#include "core/text/json.hpp"
#include "machine/instance.hpp"

namespace porter::client {

/// How a command says which server it is about.
struct ServerChoice {
  std::string settings;  ///< --settings; empty: not said.
  int port = 0;          ///< --at; 0: not said.
  std::string command;   ///< As it is typed, such as "uporter log": what is to be typed in its place is made from it.
};

/// A server that runs, with what it says of itself.
struct RunningServer {
  machine::Instance instance;
  nlohmann::json status;  ///< As the control interface has it; null: it does not answer.
};

/// All that run, in the order of their folders and settings.
std::vector<RunningServer> running_servers();

/// The server that is meant. Unless it is named: the one for ./uporter.toml, if there is such a file; else the one that
/// shows `near`, an absolute path; else the one for the settings of the user; else the only one that runs. It need not
/// run, except where it is named by its port. A finding: none, or several, could be meant.
std::variant<machine::Instance, Finding> find_server(const ServerChoice& meant, const std::string& near);
/// The same, near the folder that the command is given in.
std::variant<machine::Instance, Finding> find_server(const ServerChoice& meant);

/// The server that was found; nullopt: none was, and that has been told to the person.
std::optional<machine::Instance> found_or_told(std::variant<machine::Instance, Finding> found);

/// The finding for a server that does not run, and for one that runs and cannot be asked.
Finding not_running(const machine::Instance& instance);
Finding unreachable(const machine::Instance& instance, const std::string& reason);

/// The folder that the command is given in.
std::string current_folder();

}  // namespace porter::client
