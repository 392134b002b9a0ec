// Noticing that a file has changed: it, any folder on the way to it, or any link there, whether it exists by
// now or not. The system tells of it (inotify); where it has no more room for that, the file's times are looked at.
#pragma once

#include <sys/stat.h>

#include <boost/asio/awaitable.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/posix/stream_descriptor.hpp>
#include <boost/asio/steady_timer.hpp>
#include <map>
#include <optional>
#include <set>
#include <string>

#include "core/findings/finding.hpp"

namespace porter::server {

namespace asio = boost::asio;

/// One coroutine at a time waits for changed(); close() makes it return.
class FileWatch {
 public:
  /// Watches the file called `path`, an absolute path that may hold links, on the thread of `context`.
  FileWatch(asio::io_context& context, std::string path);

  /// Waits until something on the way to the file has changed. False: the watch was closed.
  asio::awaitable<bool> changed();
  /// Why changes are noticed late, by looking; nullopt: they are told at once.
  std::optional<Finding> problem() const;
  void close();

 private:
  /// Begins to watch, if the system lets us; else error_ tells why not.
  void begin();
  /// Looks at the file until it has changed, or the system can tell of it again. False: closed.
  asio::awaitable<bool> look();
  /// What there is of the file.
  struct stat state() const;
  /// Watches every folder that the path leads through at the moment, by its names and by its real ones.
  void arm();
  void add(const std::string& path);
  /// True if one of the `events`, as inotify(7) has them, is about a name that matters.
  bool tell(const char* events, std::size_t size) const;

  const std::string path_;
  asio::posix::stream_descriptor events_;
  asio::steady_timer pause_;
  struct stat seen_ {};  ///< While it is looked at.
  bool is_closed_ = false;
  std::map<int, std::set<std::string>> names_;  ///< By watch, the names in its folder that matter.
  int error_ = 0;                               ///< errno, where watching has failed.
};

}  // namespace porter::server
