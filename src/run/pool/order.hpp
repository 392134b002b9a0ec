// Which interpreter is persistent for which site, and with what: what its processes are started from.
#pragma once

#include <chrono>
#include <cstddef>
#include <string>
#include <vector>

#include "core/script/environment.hpp"
#include "core/settings/settings.hpp"

namespace porter::run {

struct PoolOrder {
  std::string site;           ///< Its name.
  std::string language;       ///< As the settings call it.
  std::string fresh_setting;  ///< The line of the settings that has it start for each request.
  bool is_php = false;
  std::string program;                   ///< The full path; empty where others start it.
  std::vector<std::string> arguments;    ///< argv, argv[0] included.
  std::vector<std::string> environment;  ///< "NAME=value"
  std::string folder;                    ///< The working directory.
  bool leaves_running = false;           ///< What its scripts leave running lives on.
  bool is_of_folder = false;             ///< The program and its modules lie there.
  std::size_t address_space = 0;         ///< Bytes of a process; 0: any.
  std::size_t open_files = 0;
  std::size_t processes = 1;  ///< At most.
  /// So many are begun whenever somebody waits; more only where those at work wait themselves and do not compute.
  std::size_t at_once = 1;
  std::size_t runs_each = 1;
  std::chrono::seconds idle_time{0};
  std::vector<std::string> external;
  std::size_t queue = 0;  ///< Requests that wait for those servers.

  bool operator==(const PoolOrder&) const = default;
};

/// What scripts get from the server that runs them.
struct Supplies {
  std::vector<std::string> passed_on;  ///< Environment from the server's own.
  std::string opcodes;                 ///< The folder in which PHP keeps what it has compiled; empty: nowhere.
};

/// What a persistent interpreter of `site` is started from. `program` is its full path, which `rule` is about.
PoolOrder pool_order(const Settings& settings, const Site& site, const script::Interpreter& rule,
                     const std::string& program, const Supplies& in);

/// The arguments that hand PHP the directives of `rule`, and those that make what is edited show at the next request;
/// none for other interpreters. `opcodes` as in Supplies. Those that the settings name stay as they are there.
enum class Runs { fresh, persistent };
std::vector<std::string> directive_arguments(const script::Interpreter& rule, const std::string& opcodes, Runs runs);
/// The same for those that others have started: parameters of each request.
script::Environment directive_parameters(const script::Interpreter& rule);

/// So many processes of one site, and so many fresh runs, there may be if the settings name no number.
inline constexpr std::size_t kUsualMost = 64;

/// How many scripts work at once under `limits`: what `runs` says, else two for each processor.
std::size_t runs_at_once(const Limits& limits);

}  // namespace porter::run
