// Watching folders, and comparing what lies in them. See files.hpp.
#include "run/pool/files.hpp"

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

std::string PoolFiles::state_of_files() const {
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

void PoolFiles::watch(const std::vector<std::string>& paths, std::int64_t since) {
  const std::lock_guard lock(mutex_);
  if (!inotify_.is_open()) inotify_.reset(::inotify_init1(IN_NONBLOCK | IN_CLOEXEC));
  bool has_changed = false;
  for (const std::string& path : paths) {
    if (std::find(paths_.begin(), paths_.end(), path) != paths_.end()) continue;
    paths_.push_back(path);
    for (const std::string& one : with_entries(path)) {
      struct stat info {};
      if (::stat(one.c_str(), &info) == 0 && !S_ISDIR(info.st_mode)) has_changed |= info.st_ctim.tv_sec >= since;
    }
  }
  watch_folders();
  state_ = state_of_files();
  is_watched_ = true;
  if (has_changed) ++generation_;
}

void PoolFiles::watch_folders() {
  if (!inotify_.is_open()) return;
  // A link may be turned, or a folder replaced, anywhere on the way.
  names_.clear();
  std::set<std::string> folders;
  for (const std::string& path : paths_)
    for (const std::string& one : with_entries(path))
      for (const std::string& place : {one, real_path(one)}) {
        if (is_folder(place)) folders.insert(place);
        for (std::size_t slash = place.rfind('/'), end = place.size(); slash != place.npos && end > 0;
             end = slash, slash = slash == 0 ? place.npos : place.rfind('/', slash - 1)) {
          names_.insert(place.substr(slash + 1, end - slash - 1));
          folders.insert(place.substr(0, std::max<std::size_t>(slash, 1)));
        }
      }
  for (const std::string& folder : folders)
    if (::inotify_add_watch(inotify_.get(), folder.c_str(), kChanges | IN_ONLYDIR) < 0 && errno == ENOSPC)
      return inotify_.reset();
}

bool PoolFiles::is_about_them(const std::string& name) const {
  return name.empty() || name.ends_with(".ini") || names_.contains(name);
}

bool PoolFiles::has_news() {
  if (!inotify_.is_open()) return true;
  alignas(inotify_event) std::array<char, 4096> events;
  bool out = false;
  for (ssize_t got = 0; (got = ::read(inotify_.get(), events.data(), events.size())) > 0;)
    for (std::size_t at = 0; at < static_cast<std::size_t>(got);) {
      const auto* const event = reinterpret_cast<const inotify_event*>(events.data() + at);
      out = out || is_about_them(event->len > 0 ? event->name : "");
      at += sizeof *event + event->len;
    }
  return out;
}

void PoolFiles::look() {
  // What has changed may lead elsewhere now.
  watch_folders();
  std::string now = state_of_files();
  if (now == state_) return;
  state_ = std::move(now);
  ++generation_;
}

std::uint64_t PoolFiles::generation() {
  if (!is_watched_) return generation_;
  const std::lock_guard lock(mutex_);
  if (has_news()) look();
  return generation_;
}

}  // namespace porter::run
