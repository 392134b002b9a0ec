// Taking back what was sent to a process that has not read it yet: its end of the connection is borrowed from it
// (pidfd_getfd(2)), and read in its place.
#pragma once

#include <sys/types.h>

#include <string_view>

namespace porter::run {

/// True if that can be done with a child, `process` being a descriptor of it (pidfd_open(2)): it is forbidden where one
/// process may not look at another, even at its own child.
bool can_take_back(int process);

/// Takes back `text`, the last that was sent on `connection` to the process with the number `id`. False: it has begun
/// to read it, or has nothing of it, and will find all that was there.
bool take_back(int process, pid_t id, int connection, std::string_view text);

}  // namespace porter::run
