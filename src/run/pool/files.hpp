// The files that pooled processes were started from: their program, what its arguments name, and its settings files.
// A change of any of them is a new generation, and is seen by the very next request.
//
// The system tells of changes in the folders that lead to them (inotify(7)), which a request asks for without waiting,
// so an idle pool costs nothing; what the files are like is looked at only then. Where the system has no more of that
// to give, they are looked at for each request.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <mutex>
#include <set>
#include <string>
#include <vector>

#include "core/files/descriptor.hpp"

namespace porter::run {

/// For use by all threads.
class PoolFiles {
 public:
  /// Watches these as well, files and folders. What has changed since `since` (seconds since 1970) makes a new
  /// generation at once.
  void watch(const std::vector<std::string>& paths, std::int64_t since);
  /// The generation that they are in now. A system call mostly.
  std::uint64_t generation();
  /// Something else that processes have read has changed: a new generation.
  void begin_generation() { ++generation_; }

 private:
  /// With mutex_ held: watches the folders that lead to those files, as they are now.
  void watch_folders();
  /// With mutex_ held: what tells the files as they are from all that they have been.
  std::string state_of_files() const;
  /// With mutex_ held: whether something may have changed.
  bool has_news();
  /// True if what has happened to `name` in a folder that is watched may concern them.
  bool is_about_them(const std::string& name) const;
  /// With mutex_ held: looks at the files, whether that is a new generation.
  void look();

  std::atomic<std::uint64_t> generation_{1};
  std::atomic<bool> is_watched_{false};
  std::mutex mutex_;
  files::Descriptor inotify_;  // Guarded by mutex_, as is what follows.
  std::vector<std::string> paths_;
  std::set<std::string> names_;  ///< Of what lies on the way to them.
  std::string state_;
};

}  // namespace porter::run
