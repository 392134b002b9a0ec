// Starting a program: the one place where a process is made.
//
// The new process shares the server's memory until it has become the other program (as with vfork), so starting one
// costs the same however large the server is. It leads a process group of its own, so that it can be ended with all
// that it started, and it inherits nothing but the three standard streams.
#pragma once

#include <sys/resource.h>
#include <sys/types.h>

#include <string>
#include <variant>
#include <vector>

#include "core/script/environment.hpp"

namespace porter::run {

/// A bound on what the program may use, as for setrlimit(2).
struct ResourceLimit {
  int resource;
  rlimit limit;
};

/// What to start, and with what.
struct StartOrder {
  std::string program;                 ///< The path of the file to execute.
  std::vector<std::string> arguments;  ///< argv, argv[0] included.
  script::Environment environment;     ///< Nothing else is passed on.
  std::string folder;                  ///< The working directory.
  int input = -1;                      ///< Becomes standard input; -1: /dev/null.
  int output = -1;                     ///< Becomes standard output; -1: /dev/null.
  int error = -1;                      ///< Becomes the error stream; -1: /dev/null.
  std::vector<ResourceLimit> limits;   ///< Set before the program begins.
};

/// Why a program could not be started.
struct StartError {
  enum class Step { resources, folder, execute } step;
  int number;  ///< errno
};

/// Starts a program, and gives the number of its process, which is that of its process group too. Blocks for the few
/// hundred microseconds until it has begun, or has failed to.
std::variant<pid_t, StartError> start_process(StartOrder order);

}  // namespace porter::run
