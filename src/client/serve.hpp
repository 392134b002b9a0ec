// Other programs: uporter serve, which becomes the server, and those that a command has part of its work done by.
#pragma once

#include <optional>
#include <string>
#include <vector>

namespace porter::client {

struct ServeOptions {
  std::string folder;    ///< Empty: the current one.
  std::string settings;  ///< Serve what this file describes, and not a folder; empty: the folder.
  int port = -1;         ///< -1: none was asked for.
  std::string reach;     ///< Empty: this-computer.
  std::vector<std::string> hosts;
  std::string console;   ///< Where the console is, or "off"; empty: the usual place.
  std::string fallback;  ///< The script that answers for paths that lead to no file; empty: none.
};

/// Becomes uporterd. Returns only if that cannot be started, with an exit status.
int run_serve(const ServeOptions& options);

/// Runs the program called `name` with the arguments `words`, argv[0] included, and with the streams and the
/// environment of this one, to its end. Its exit status; nullopt: there is no such program, or it was ended.
std::optional<int> run_here(const std::string& name, std::vector<std::string> words);

/// The fallback script that `named` means, as a path from the document root `root`: it may be named from there or from
/// the current folder.
std::string fallback_below(const std::string& root, const std::string& named);

/// The path of uporterd, which lies beside this program, and of uporter.
std::string server_program();
std::string client_program();

}  // namespace porter::client
