// Which interpreters this machine has, and in which version.
#pragma once

#include <sys/stat.h>

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <map>
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <utility>
#include <vector>

#include "core/settings/settings.hpp"
#include "run/fresh/run.hpp"

namespace porter::machine {

namespace asio = boost::asio;

struct FoundInterpreter {
  script::Interpreter interpreter;
  std::string site{};     ///< The only one that it is for; empty: it is for all that have none of their own.
  std::string path{};     ///< Empty: it is not installed.
  std::string version{};  ///< Empty: it does not tell.
};

/// What is known of it, for programs.
nlohmann::json json_of(const FoundInterpreter& found);

/// What programs have said of their versions, and in which state they were then.
using VersionsKnown = std::map<std::string, std::pair<struct stat, std::string>>;

/// Looks for every interpreter of `settings`, and behind them for those that sites have of their own, in `search_path`
/// and asks those found for their versions, all at once. Takes two seconds at most; what has not answered by then has
/// no version. Programs in `known` are asked again only if their file has changed.
asio::awaitable<std::vector<FoundInterpreter>> probe_interpreters(run::RunSet& runs, const Settings& settings,
                                                                  std::string search_path, VersionsKnown& known);

/// What a program prints in the 2 seconds that it is given, 16 KiB at most.
asio::awaitable<std::string> output_of(std::shared_ptr<run::Run> process);

}  // namespace porter::machine
