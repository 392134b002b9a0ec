// The journal: the lines that the server shows while it runs, one for each request, in order.
//
// Lines are handed over without waiting and written by a thread of the journal's own, so that a terminal that has been
// paused, or a full pipe, never holds up an answer. What is handed over within some milliseconds goes out in one
// write. Where the running server can be asked for its log, the last of them are kept in memory.
#pragma once

#include <chrono>
#include <condition_variable>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <mutex>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <thread>
#include <unordered_map>
#include <vector>

#include "server/record/patient_writer.hpp"

namespace porter::server {

class Journal {
 public:
  /// Whether the last lines are kept in memory. It costs a copy of each.
  enum class Keep { nothing, last_lines };

  /// Writes to the descriptor `out`, which must stay open.
  Journal(int out, Keep keep);
  /// Writes what is left, giving up after a second if nobody takes it.
  ~Journal();
  Journal(const Journal&) = delete;
  Journal& operator=(const Journal&) = delete;

  /// What is known of a line beside its text.
  struct Mark {
    std::uint32_t length = 0;  ///< Bytes, its line feed included.
    std::uint32_t site = 0;    ///< A number from site_number(); 0: of no site.
    int status = 0;            ///< Of the answer; -1: the line is not about a request.
  };

  /// Hands over whole lines, each with its line feed and its mark. May be called from any thread. If more than a few
  /// MiB wait to be written, the lines are dropped, and their number is told in their place.
  void write(std::string_view lines, std::span<const Mark> marks);
  /// The same for one line that is not about a request.
  void write_note(std::string_view line);

  /// The number by which the marks name a site; the same for the same name. From any thread.
  std::uint32_t site_number(const std::string& name);

  struct Kept {
    std::string site;
    int status = 0;
    std::string text;  ///< Without its line feed.
  };
  struct KeptLines {
    std::vector<Kept> lines;
    std::uint64_t next = 0;  ///< The number of the line that comes next, counted from the first of all.
  };
  struct Filter {
    std::optional<std::string> site;
    bool only_errors = false;  ///< Statuses from 400 on, and clients that left.
  };
  /// The lines from number `first` on that are still kept and that `filter` lets through, at most the last `most`.
  /// From any thread.
  KeptLines kept_lines(std::uint64_t first, std::size_t most, const Filter& filter);

  /// While held back, lines that are not `write_first`ed wait.
  void hold_back();
  /// Writes `lines` before all that waits, and ends the holding back.
  void release(std::string_view lines);

 private:
  void run();

  PatientWriter out_;  // The thread's own.
  const Keep keep_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::string waiting_;  // Guarded by mutex_, as are those below.
  std::size_t dropped_ = 0;
  struct Batch {
    std::uint64_t first = 0;
    std::string text;
    std::vector<Mark> marks;
  };
  void keep(std::string_view lines, std::span<const Mark> marks);

  std::deque<Batch> kept_;
  std::size_t kept_bytes_ = 0;
  std::uint64_t next_number_ = 0;
  std::vector<std::string> sites_{""};
  std::unordered_map<std::string, std::uint32_t> site_numbers_{{"", 0}};
  bool held_back_ = false;
  bool sleeping_ = false;  ///< The thread waits for `changed_`.
  bool finishing_ = false;
  std::chrono::steady_clock::time_point give_up_;  ///< When what is left is not written any more.
  std::thread thread_;
};

}  // namespace porter::server
