// Watching folders, and comparing what lies in them. See kept_files.hpp.
#include "run/kept_files.hpp"

#include <dirent.h>
#include <sys/inotify.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <climits>
#include <cstdlib>
#include <memory>

#include "core/files/paths.hpp"

namespace porter::run {
namespace {

constexpr std::uint32_t kChanges =
    IN_CREATE | IN_MOVED_TO | IN_MOVED_FROM | IN_DELETE | IN_CLOSE_WRITE | IN_MODIFY | IN_ATTRIB | IN_DELETE_SELF;

/// The same without links; empty if it is not there.
std::string real_path(const std::string& path) {
  const std::unique_ptr<char, void (*)(void*)> real(::realpath(path.c_str(), nullptr), std::free);
  return real ? std::string(real.get()) : std::string();
}

/// `path`, and if it is a folder, what lies in it.
std::vector<std::string> with_entries(const std::string& path) {
  std::vector<std::string> out = {path};
  const std::unique_ptr<DIR, int (*)(DIR*)> open(::opendir(path.c_str()), ::closedir);
  while (const dirent* const entry = open ? ::readdir(open.get()) : nullptr)
    if (std::string_view(entry->d_name).ends_with(".ini")) out.push_back(path + "/" + entry->d_name);
  std::sort(out.begin() + 1, out.end());
  return out;
}

bool is_folder(const std::string& path) {
  struct stat info {};
  return ::stat(path.c_str(), &info) == 0 && S_ISDIR(info.st_mode);
}

}  // namespace

std::string KeptFiles::state_of_files() const {
  std::string out;
  for (const std::string& path : paths_) {
    for (const std::string& one : with_entries(path)) {
      struct stat info {};
      if (::stat(one.c_str(), &info) != 0) info = {};
      out += one;
      // A folder's own times change with whatever comes and goes in it.
      if (!S_ISDIR(info.st_mode))
        for (const long number : {static_cast<long>(info.st_ino), static_cast<long>(info.st_size), info.st_mtim.tv_sec,
                                  info.st_mtim.tv_nsec, info.st_ctim.tv_sec, info.st_ctim.tv_nsec})
          out += " " + std::to_string(number);
      out += '\0';
    }
  }
  return out;
}

void KeptFiles::watch(const std::vector<std::string>& paths, std::int64_t since) {
  const std::lock_guard lock(mutex_);
  if (!inotify_.is_open()) inotify_.reset(::inotify_init1(IN_NONBLOCK | IN_CLOEXEC));
  bool has_changed = false;
  for (const std::string& path : paths) {
    if (std::find(paths_.begin(), paths_.end(), path) != paths_.end()) continue;
    paths_.push_back(path);
    for (const std::string& one : with_entries(path)) {
      struct stat info {};
      if (::stat(one.c_str(), &info) == 0 && !S_ISDIR(info.st_mode)) has_changed |= info.st_ctim.tv_sec >= since;
      const std::string real = real_path(one);
      for (const std::string& place : {one, real}) {
        if (place.empty()) continue;
        const std::string folder = is_folder(place) ? place : std::string(files::folder_of(place));
        if (inotify_.is_open()) ::inotify_add_watch(inotify_.get(), folder.c_str(), kChanges | IN_ONLYDIR);
      }
    }
  }
  state_ = state_of_files();
  watcher_ = inotify_.is_open() ? inotify_.get() : -1;
  if (has_changed) ++generation_;
}

void KeptFiles::look() {
  const std::lock_guard lock(mutex_);
  std::string now = state_of_files();
  if (now == state_) return;
  state_ = std::move(now);
  ++generation_;
}

std::uint64_t KeptFiles::generation() {
  const int watcher = watcher_.load(std::memory_order_acquire);
  alignas(inotify_event) std::array<char, 4096> events;
  bool has_changed = false;
  while (watcher >= 0 && ::read(watcher, events.data(), events.size()) > 0) has_changed = true;
  if (has_changed) look();
  return generation_;
}

}  // namespace porter::run
