// start, stop, restart, status, reload, log and check: the server that stays.
#pragma once

#include <cstddef>
#include <string>

#include "client/servers.hpp"

namespace porter::client {

// `settings` is what --settings named; empty: the usual place. `meant` finds a server that runs. The results are exit
// statuses.

/// Starts the server in the background, and returns once it answers or has said why it does not.
int run_start(const std::string& settings);
int run_stop(const ServerChoice& meant);
int run_restart(const std::string& settings);

enum class Form { text, json };
int run_status(const ServerChoice& meant, Form form);
/// All servers of this user that run.
int run_status_of_all(Form form);
int run_reload(const ServerChoice& meant);

/// Closes the addresses of the running server, and opens them again.
int run_pause(const ServerChoice& meant);
int run_resume(const ServerChoice& meant);

struct LogOptions {
  bool follow = false;
  std::string site;
  bool errors = false;
  std::size_t lines = 40;
  Form form = Form::text;
};
int run_log(const ServerChoice& meant, const LogOptions& options);
int run_check(const std::string& named, Form form);

}  // namespace porter::client
