// Comparing states of files. See state.hpp.
#include "core/files/state.hpp"

#include <algorithm>

namespace porter::files {
namespace {

constexpr std::time_t kSettledAfter = 2;

}  // namespace

bool same_state(const struct stat& a, const struct stat& b) {
  const auto same_time = [](const timespec& x, const timespec& y) {
    return x.tv_sec == y.tv_sec && x.tv_nsec == y.tv_nsec;
  };
  return a.st_ino == b.st_ino && a.st_dev == b.st_dev && a.st_size == b.st_size && a.st_mode == b.st_mode &&
         same_time(a.st_mtim, b.st_mtim) && same_time(a.st_ctim, b.st_ctim);
}

bool is_settled(const struct stat& info, std::time_t now) {
  return now - std::max(info.st_mtim.tv_sec, info.st_ctim.tv_sec) >= kSettledAfter;
}

}  // namespace porter::files
