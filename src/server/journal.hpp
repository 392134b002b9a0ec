// The journal: the lines that the server shows while it runs, one for each request, in order.
//
// Lines are handed over without waiting and written by a thread of the journal's own, so that a terminal that has been
// paused, or a full pipe, never holds up an answer. What is handed over within a few milliseconds goes out in one
// write.
#pragma once

#include <condition_variable>
#include <cstddef>
#include <mutex>
#include <string>
#include <string_view>
#include <thread>

namespace porter::server {

class Journal {
 public:
  /// Writes to the descriptor `out`, which must stay open.
  explicit Journal(int out);
  /// Writes what is left, giving up after a second if nobody takes it.
  ~Journal();
  Journal(const Journal&) = delete;
  Journal& operator=(const Journal&) = delete;

  /// Hands over whole lines, each with its line feed. May be called from any thread. If more than a few MiB wait
  /// to be written, the lines are dropped, and their number is told in their place.
  void write(std::string_view lines);

  /// While held back, lines that are not `write_first`ed wait.
  void hold_back();
  /// Writes `lines` before all that waits, and ends the holding back.
  void release(std::string_view lines);

 private:
  void run();

  const int out_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::string waiting_;  // Guarded by mutex_, as are those below.
  std::size_t dropped_ = 0;
  bool held_back_ = false;
  bool sleeping_ = false;  ///< The thread waits for `changed_`.
  bool finishing_ = false;
  std::thread thread_;
};

}  // namespace porter::server
