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
#include <thread>

#include "core/files/descriptor.hpp"
#include "core/findings/finding.hpp"
#include "core/settings/settings.hpp"
#include "server/record/exchange.hpp"

namespace porter::server {

/// Appends the line: the Common Log Format followed by referrer and user agent, or a JSON object. What a client sent
/// cannot break out of its place.
void append_access_line(std::string& out, const Exchange& exchange, AccessLog::Format format);

class AccessLogFile {
 public:
  /// The file is opened by the first line that is written.
  explicit AccessLogFile(AccessLog log);
  ~AccessLogFile();
  AccessLogFile(const AccessLogFile&) = delete;
  AccessLogFile& operator=(const AccessLogFile&) = delete;

  const AccessLog& log() const { return log_; }
  /// Hands over whole lines. From any thread.
  void write(std::string_view lines);
  /// Closes the file; the next lines go to the one that has its name then. From any thread.
  void reopen();
  /// The finding that stands while lines are being lost.
  std::optional<Finding> problem() const;

 private:
  void run();
  /// Writes all of `lines`; errno if that failed.
  int put(std::string_view lines);

  const AccessLog log_;
  mutable std::mutex mutex_;
  std::condition_variable changed_;
  std::string waiting_;  // Guarded by mutex_, as are those below.
  bool reopening_ = false;
  bool finishing_ = false;
  int error_ = 0;
  std::uint64_t lost_ = 0;
  std::chrono::steady_clock::time_point give_up_;  ///< When what is left is not written any more.
  files::Descriptor file_;                         // The thread's own.
  std::thread thread_;
};

}  // namespace porter::server
