// What uporterd is told on its command line.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <vector>

#include "core/settings/address.hpp"

namespace porter::server {

/// The exit status of a command that was usage error, the same for uporterd and uporter.
inline constexpr int kBadUse = 2;

struct Options {
  std::string settings;        ///< Serve by this file, and not a folder.
  bool in_background = false;  ///< Nobody sees its output but in the log.
  int ready = -1;              ///< A descriptor on which to tell that the server answers.
  std::string folder = ".";
  int port = -1;                        ///< -1: none was asked for.
  std::optional<Address::Reach> reach;  ///< nullopt: as the settings say; of a folder, this computer.
  std::vector<std::string> hosts;
  std::string fallback;             ///< A script below the folder; empty: none.
  std::string console;              ///< Where the console is, or "off"; empty: the usual place.
  std::size_t threads = 0;          ///< 0: one for each core.
  std::vector<std::string> limits;  ///< "NAME=NUMBER" each.
  long long begun = 0;  ///< When the client was started, in nanoseconds of the monotonic clock; 0: just now.
};

/// Reads the command line into `options`. A status: the program is to end with it, since help was asked for or an
/// option is wrong; what there is to say has been said.
std::optional<int> read_options(int argc, char** argv, Options& options);

}  // namespace porter::server
