// Noticing that a file has changed: it, any folder on the way to it, or any link there, whether it exists by
// now or not.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/posix/stream_descriptor.hpp>
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

  /// Waits until something on the way to the file has changed. False: the watch was closed, or cannot be kept.
  asio::awaitable<bool> changed();
  /// Why changes are not noticed; nullopt: they are.
  std::optional<Finding> problem() const;
  void close();

 private:
  /// Watches every folder that the path leads through at the moment, by its names and by its real ones.
  void arm();
  void add(const std::string& path);
  /// True if one of the `events`, as inotify(7) has them, is about a name that matters.
  bool tell(const char* events, std::size_t size) const;

  const std::string path_;
  asio::posix::stream_descriptor events_;
  std::map<int, std::set<std::string>> names_;  ///< By watch, the names in its folder that matter.
  int error_ = 0;                               ///< errno, where watching has failed.
};

}  // namespace porter::server
