// The journal's thread. See journal.hpp.
#include "server/journal.hpp"

#include <fmt/format.h>
#include <poll.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <utility>

namespace porter::server {
namespace {

constexpr std::size_t kMostWaiting = 4 * 1024 * 1024;
constexpr std::chrono::milliseconds kGather{5};

}  // namespace

Journal::Journal(int out) : out_(out), thread_([this] { run(); }) {}

Journal::~Journal() {
  {
    const std::lock_guard lock(mutex_);
    finishing_ = true;
    held_back_ = false;
  }
  changed_.notify_one();
  thread_.join();
}

void Journal::write(std::string_view lines) {
  bool wake = false;
  {
    const std::lock_guard lock(mutex_);
    if (waiting_.size() + lines.size() > kMostWaiting) {
      ++dropped_;
      return;
    }
    if (dropped_ > 0) waiting_ += fmt::format("({} lines could not be written)\n", std::exchange(dropped_, 0));
    waiting_ += lines;
    wake = sleeping_ && !held_back_;
  }
  if (wake) changed_.notify_one();
}

void Journal::hold_back() {
  const std::lock_guard lock(mutex_);
  held_back_ = true;
}

void Journal::release(std::string_view lines) {
  {
    const std::lock_guard lock(mutex_);
    waiting_.insert(0, lines);
    held_back_ = false;
  }
  changed_.notify_one();
}

void Journal::run() {
  std::string batch;
  for (;;) {
    bool last = false;
    {
      std::unique_lock lock(mutex_);
      sleeping_ = true;
      changed_.wait(lock, [this] { return finishing_ || (!waiting_.empty() && !held_back_); });
      sleeping_ = false;
      last = finishing_;
      batch.clear();
      batch.swap(waiting_);
    }
    std::string_view rest = batch;
    while (!rest.empty()) {
      // A descriptor shared with other programs may have been made non-blocking by one of them.
      pollfd ready{out_, POLLOUT, 0};
      if (last && ::poll(&ready, 1, 1000) == 0) return;
      const ssize_t written = ::write(out_, rest.data(), rest.size());
      if (written >= 0) {
        rest.remove_prefix(static_cast<std::size_t>(written));
      } else if (errno == EAGAIN) {
        ::poll(&ready, 1, 1000);
      } else if (errno != EINTR) {
        break;  // Nobody reads any more; serving goes on.
      }
    }
    if (last) return;
    std::this_thread::sleep_for(kGather);
  }
}

}  // namespace porter::server
