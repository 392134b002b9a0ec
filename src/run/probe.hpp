// Which interpreters this machine has, and in which version.
#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <string>
#include <vector>

#include "core/settings/settings.hpp"
#include "run/run.hpp"

namespace porter::run {

struct FoundInterpreter {
  script::Interpreter interpreter;
  std::string path;     ///< Empty: it is not installed.
  std::string version;  ///< Empty: it does not tell.
};

/// Looks for every interpreter of `settings` in their search path and asks those found for their versions, all at once.
/// Takes two seconds at most; what has not answered by then has no version.
asio::awaitable<std::vector<FoundInterpreter>> probe_interpreters(RunSet& runs, const Settings& settings);

}  // namespace porter::run
