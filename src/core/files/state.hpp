// The state of a file as stat() shows it: whether it is still the same, and whether that can be relied on.
#pragma once

#include <sys/stat.h>

#include <ctime>

namespace porter::files {

/// True if `a` and `b` describe the same state of the same file.
bool same_state(const struct stat& a, const struct stat& b);

/// True if what is read at `now` (seconds since 1970) of a file in this state may be kept for it. A file that was
/// changed less than two seconds before may change again without its time stamps telling.
bool is_settled(const struct stat& info, std::time_t now);

}  // namespace porter::files
