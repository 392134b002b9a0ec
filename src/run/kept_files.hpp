// The files that kept processes were started from: their program, what its arguments name, and its settings files.
// A change of any of them is a new generation, and is seen by the very next request.
//
// The system tells of changes in their folders (inotify(7)), which a request asks for without waiting, so an idle pool
// costs nothing; what the files are like is looked at only then.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <mutex>
#include <string>
#include <vector>

#include "core/files/descriptor.hpp"

namespace porter::run {

/// For use by all threads.
class KeptFiles {
 public:
  /// Watches these as well, files and folders. What has changed since `since` (seconds since 1970) makes a new
  /// generation at once.
  void watch(const std::vector<std::string>& paths, std::int64_t since);
  /// The generation that they are in now. A system call mostly.
  std::uint64_t generation();
  /// The same as far as somebody has asked for it.
  std::uint64_t known_generation() const { return generation_; }

 private:
  /// With mutex_ held: what tells the files as they are from all that they have been.
  std::string state_of_files() const;
  void look();

  std::atomic<std::uint64_t> generation_{1};
  std::atomic<int> watcher_{-1};  ///< What is asked for changes; -1: nobody tells of them.
  std::mutex mutex_;
  files::Descriptor inotify_;  // Guarded by mutex_, as is what follows.
  std::vector<std::string> paths_;
  std::string state_;
};

}  // namespace porter::run
