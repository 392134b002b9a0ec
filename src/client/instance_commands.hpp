// start, stop, restart, status, reload, log and check: the server that stays.
#pragma once

#include <cstddef>
#include <string>

#include "client/servers.hpp"

namespace porter::client {

// `settings` is what --settings named; empty: the usual place. `meant` finds a server that runs. The results are exit
// statuses.

/// Whether a start tells what it has come to, or only what keeps it from that.
enum class Told { status, nothing };
/// Starts the server in the background, and returns once it answers or has said why it does not.
/// `reach` is as that of ServeOptions.
int run_start(const std::string& settings, const std::string& reach = {}, Told told = Told::status);
int run_stop(const ServerChoice& meant);
int run_restart(const std::string& settings);

/// Whether the URLs for other devices are shown as codes for a camera as well.
enum class Codes { hidden, shown };
int run_status(const ServerChoice& meant, Codes codes);
/// All servers of this user that run.
int run_status_of_all();
int run_reload(const ServerChoice& meant);

/// Closes the addresses of the running server, and opens them again.
int run_pause(const ServerChoice& meant);
int run_resume(const ServerChoice& meant);

struct LogOptions {
  bool follow = false;
  std::string site;
  bool errors = false;
  std::size_t lines = 40;
};
int run_log(const ServerChoice& meant, const LogOptions& options);
int run_check(const std::string& named);

}  // namespace porter::client
