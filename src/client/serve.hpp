// uporter serve: shows a folder until Ctrl+C.
#pragma once

#include <string>
#include <vector>

namespace porter::client {

struct ServeOptions {
  std::string folder = ".";
  std::string settings;  ///< Serve what this file describes, and not a folder; empty: the folder.
  int port = -1;         ///< -1: none was asked for.
  std::string reach = "this-computer";
  std::vector<std::string> hosts;
};

/// Becomes uporterd. Returns only if that cannot be started, with an exit status.
int run_serve(const ServeOptions& options);

/// The path of uporterd, which lies beside this program.
std::string server_program();

}  // namespace porter::client
