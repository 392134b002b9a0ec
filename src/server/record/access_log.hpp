// The access log: one line for each request in a file, for other programs to read.
//
// Lines are handed over without waiting, as to the journal, and written by a thread of its own. A file that cannot be
// written holds up nobody: the lines are lost, their number and the reason are kept for whoever asks, and the next
// lines are tried again.
#pragma once

#include <chrono>
#include <condition_variable>
#include <cstdint>
#include <mutex>
#include <optional>
#include <string>
#include <string_view>

#include "core/files/descriptor.hpp"
#include "core/findings/finding.hpp"
#include "core/settings/settings.hpp"
#include "server/record/exchange.hpp"

namespace porter::server {

/// Appends the line: the Common Log Format, followed by referrer and user agent or not, or a JSON object. What a client
/// sent cannot break out of its place.
void append_access_line(std::string& out, const Exchange& exchange, AccessLog::Format format);

/// write() may be called from any thread, and from several at once.
class AccessLogFile {
 public:
  /// The file is opened by the first line that is written. If `before` writes to the same file, both do so by one
  /// thread, which heeds what `log` says of the file's size from now on.
  explicit AccessLogFile(AccessLog log, const AccessLogFile* before = nullptr);
  /// The last one of a file writes what is left, giving up after a second if nobody takes it.
  ~AccessLogFile();
  AccessLogFile(const AccessLogFile&) = delete;
  AccessLogFile& operator=(const AccessLogFile&) = delete;

  const AccessLog& log() const { return log_; }
  /// Hands over whole lines, for another thread to write. Never waits; if too much waits already, they are lost, and
  /// that is told. From any thread.
  void write(std::string_view lines);
  /// Closes the file; the next lines go to the one that has its name then. From any thread.
  void reopen();
  /// The finding that stands while lines are being lost.
  std::optional<Finding> problem() const;

 private:
  class Sink;
  struct Writing;

  const AccessLog log_;
  std::shared_ptr<Writing> writing_;
};

}  // namespace porter::server
