// uporter serve: shows a folder until Ctrl+C.
#pragma once

#include <CLI/CLI.hpp>
#include <string>
#include <vector>

namespace porter::client {

/// Exit status for a command that was called wrongly.
inline constexpr int kBadUse = 2;

struct ServeOptions {
  std::string folder = ".";
  int port = -1;  ///< -1: none was asked for.
  std::string reach = "this-computer";
  std::vector<std::string> hosts;
};

/// Adds the command to `app`; its options go to `options`, which must outlive the parsing.
void add_serve(CLI::App& app, ServeOptions& options);

/// Becomes uporterd. Returns only if that cannot be started, with an exit status.
int run_serve(const ServeOptions& options);

}  // namespace porter::client
