// A sentence that one thread sets and others show.
#pragma once

#include <mutex>
#include <string>

namespace porter::server {

/// From any thread.
class SharedNote {
 public:
  void set(std::string text) {
    const std::lock_guard lock(mutex_);
    text_ = std::move(text);
  }
  /// Empty: there is nothing to say.
  std::string text() const {
    const std::lock_guard lock(mutex_);
    return text_;
  }

 private:
  mutable std::mutex mutex_;
  std::string text_;
};

}  // namespace porter::server
