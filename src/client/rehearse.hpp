// uporter rehearse: runs a script offline exactly as the server would, and shows what it did.
#pragma once

#include <string>
#include <vector>

namespace porter::client {

struct RehearseOptions {
  std::string settings;  ///< Whose sites are looked at; empty: the usual place.
  std::string script;    ///< A path, or a URL.
  std::string at;        ///< A URL at which the script answers; empty: its own.
  std::string root;      ///< The document root; empty: found by the script's place.
  std::string query;
  std::string method;  ///< Empty: GET, or POST with a body.
  std::string body;    ///< A file, or "-" for standard input; empty: none.
  std::string type;
  std::vector<std::string> headers;
  std::string path_info;
  std::string host = "localhost:8080";
  bool show_environment = false;
  bool body_only = false;
};

/// Rehearses. Exit status 0: the server would have answered below 400; 1: it would not; 2: usage error.
int run_rehearse(const RehearseOptions& options);

}  // namespace porter::client
