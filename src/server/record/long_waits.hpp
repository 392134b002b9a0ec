// The last request that waited for long to begin, so that one who looks is told why his pages are slow.
#pragma once

#include <chrono>
#include <mutex>
#include <optional>
#include <string>

#include "core/findings/finding.hpp"

namespace porter::server {

/// Shorter waits are what a busy moment brings.
inline constexpr std::chrono::seconds kLongWait{1};

/// From any thread.
class LongWaits {
 public:
  struct Wait {
    std::chrono::nanoseconds time{0};
    std::string what;  ///< "a process of PHP for the site office", "a slot".
    std::string why;   ///< "4 of 4 busy".
    std::string line;  ///< Of the settings, that allows more.
  };

  void note(Wait wait) {
    const std::lock_guard lock(mutex_);
    last_ = std::move(wait);
    noted_ = std::chrono::steady_clock::now();
  }
  /// What there is to tell of the last minute.
  std::optional<Finding> finding() {
    constexpr std::chrono::minutes kTold{1};
    const std::lock_guard lock(mutex_);
    if (!last_ || std::chrono::steady_clock::now() - noted_ > kTold) return std::nullopt;
    const auto tenths = std::chrono::duration_cast<std::chrono::milliseconds>(last_->time).count() / 100;
    return Finding{Code::waits_are_long,
                   {{"seconds", std::to_string(tenths / 10) + "." + std::to_string(tenths % 10)},
                    {"what", last_->what},
                    {"why", last_->why},
                    {"line", last_->line}}};
  }

 private:
  std::mutex mutex_;
  std::optional<Wait> last_;
  std::chrono::steady_clock::time_point noted_;
};

}  // namespace porter::server
