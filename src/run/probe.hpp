// Which interpreters this machine has, and in which version.
#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <string>
#include <vector>

#include "core/script/interpreters.hpp"
#include "run/run.hpp"

namespace porter::run {

struct FoundInterpreter {
  const script::Interpreter* interpreter = nullptr;
  std::string path;     ///< Empty: it is not installed.
  std::string version;  ///< Empty: it does not tell.
};

/// Looks for every known interpreter in `search_path` and asks those found for their versions, all at once. Takes two
/// seconds at most; what has not answered by then has no version.
asio::awaitable<std::vector<FoundInterpreter>> probe_interpreters(RunSet& runs, std::string search_path);

}  // namespace porter::run
