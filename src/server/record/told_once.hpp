// What is told once, and not at each request that it holds for.
#pragma once

#include <mutex>
#include <string>
#include <unordered_set>

namespace porter::server {

/// From any thread.
class ToldOnce {
 public:
  /// True for the first who asks with `what`.
  bool is_first(const std::string& what) {
    constexpr std::size_t kMost = 1000;
    const std::lock_guard lock(mutex_);
    if (told_.size() >= kMost) told_.clear();
    return told_.insert(what).second;
  }

 private:
  std::mutex mutex_;
  std::unordered_set<std::string> told_;
};

}  // namespace porter::server
