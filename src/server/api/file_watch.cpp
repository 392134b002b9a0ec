// inotify on every folder of a path. See file_watch.hpp.
#include "server/api/file_watch.hpp"

#include <sys/inotify.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <chrono>
#include <cstring>
#include <utility>
#include <vector>

#include "core/files/state.hpp"
#include "core/findings/resources.hpp"
#include "machine/instance.hpp"
#include "run/event.hpp"

namespace porter::server {

namespace {

/// How often the file is looked at where the system does not tell of it.
constexpr std::chrono::milliseconds kLookAtTimesEvery{500};

}  // namespace

FileWatch::FileWatch(asio::io_context& context, std::string path)
    : path_(std::move(path)), events_(context), pause_(context) {
  begin();
  seen_ = state();
}

void FileWatch::begin() {
  if (!events_.is_open()) {
    const int watcher = ::inotify_init1(IN_CLOEXEC | IN_NONBLOCK);
    error_ = watcher < 0 ? errno : 0;
    if (watcher < 0) return;
    events_.assign(watcher);
  }
  arm();
}

struct stat FileWatch::state() const {
  struct stat info {};
  if (::stat(path_.c_str(), &info) != 0) info = {};
  return info;
}

asio::awaitable<bool> FileWatch::look() {
  while (!is_closed_ && error_ != 0) {
    pause_.expires_after(kLookAtTimesEvery);
    co_await pause_.async_wait(run::kAwait);
    if (is_closed_) co_return false;
    begin();
    const struct stat now = state();
    if (!files::same_state(std::exchange(seen_, now), now)) co_return true;
  }
  co_return !is_closed_;
}

void FileWatch::arm() {
  std::set<int> before;
  for (const auto& [watch, names] : names_) before.insert(watch);
  names_.clear();
  error_ = 0;
  add(path_);
  add(machine::without_links(path_));
  for (const int watch : before)
    if (!names_.contains(watch)) ::inotify_rm_watch(events_.native_handle(), watch);
}

void FileWatch::add(const std::string& path) {
  // The folders, not the file: editors put another file in its place.
  constexpr std::uint32_t kOnTheWay = IN_CREATE | IN_MOVED_TO | IN_MOVED_FROM | IN_DELETE | IN_ONLYDIR;
  for (std::size_t slash = 0; slash != path.npos;) {
    const std::string folder = slash == 0 ? "/" : path.substr(0, slash);
    const std::size_t end = path.find('/', slash + 1);
    const std::string name = path.substr(slash + 1, end == path.npos ? end : end - slash - 1);
    const bool is_last = end == path.npos;
    const int watch = ::inotify_add_watch(events_.native_handle(), folder.c_str(),
                                          kOnTheWay | IN_MASK_ADD | (is_last ? std::uint32_t{IN_CLOSE_WRITE} : 0));
    if (watch < 0 && errno != ENOENT && errno != ENOTDIR && errno != EACCES) error_ = errno;
    if (watch < 0 && (errno == ENOENT || errno == ENOTDIR)) return;
    if (watch >= 0) names_[watch].insert(name);
    slash = end;
  }
}

bool FileWatch::tell(const char* events, std::size_t size) const {
  bool found = false;
  while (size >= sizeof(inotify_event)) {
    inotify_event event{};
    std::memcpy(&event, events, sizeof event);
    const char* const name = events + sizeof event;
    const auto watch = names_.find(event.wd);
    // Events may have been lost, or a folder itself may have gone.
    found = found || (event.mask & (IN_Q_OVERFLOW | IN_IGNORED)) != 0 ||
            (watch != names_.end() && event.len > 0 && watch->second.contains(name));
    const std::size_t whole = sizeof event + event.len;
    if (whole > size) break;
    events += whole;
    size -= whole;
  }
  return found;
}

asio::awaitable<bool> FileWatch::changed() {
  std::array<char, 8192> buffer{};
  while (!is_closed_) {
    if (error_ != 0) {
      const struct stat before = seen_;
      const bool goes_on = co_await look();
      if (!goes_on) co_return false;
      if (!files::same_state(before, seen_)) co_return true;
      continue;
    }
    const ssize_t got = ::read(events_.native_handle(), buffer.data(), buffer.size());
    if (got > 0) {
      if (!tell(buffer.data(), static_cast<std::size_t>(got))) continue;
      arm();
      seen_ = state();
      co_return true;
    }
    const auto [error] = co_await events_.async_wait(asio::posix::stream_descriptor::wait_read, run::kAwait);
    if (error) co_return false;
  }
  co_return false;
}

std::optional<Finding> FileWatch::problem() const {
  if (error_ == 0) return std::nullopt;
  return out_of_resources("watch " + path_ + ", and looks twice a second whether it has changed", error_);
}

void FileWatch::close() {
  is_closed_ = true;
  pause_.cancel();
  boost::system::error_code ignored;
  events_.close(ignored);
}

}  // namespace porter::server
