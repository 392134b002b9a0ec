// The journal: what happened, in the order in which it ended, kept as facts and shown as lines.
//
// Exchanges are handed over without waiting, by each worker as many at a time as it has, and put in order by a thread
// of the journal's own. That one writes them out as lines, too, so that a terminal that has been paused, or a full
// pipe, never holds up a response. Where the running server can be asked for its log, the last of them are kept.
#pragma once

#include <chrono>
#include <condition_variable>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <string_view>
#include <thread>
#include <vector>

#include "server/record/exchange.hpp"
#include "server/record/log_line.hpp"
#include "server/record/patient_writer.hpp"

namespace porter::server {

class Journal {
 public:
  /// Whether the last exchanges are kept in memory.
  enum class Keep { nothing, last };

  /// Writes lines to the descriptor `out`, which must stay open.
  Journal(int out, Keep keep, Colour colour);
  /// Writes what is left, giving up after a second if nobody takes it.
  ~Journal();
  Journal(const Journal&) = delete;
  Journal& operator=(const Journal&) = delete;

  /// Whether lines for people are coloured.
  Colour colour() const { return colour_; }

  /// Hands over exchanges that are over. May be called from any thread. If very many wait to be written, they are
  /// dropped, and their number is told in their place.
  void record(std::vector<Exchange> exchanges);
  /// Hands over a line that is not about an exchange, with its line feed. From any thread.
  void write_note(std::string line);

  /// An exchange or a note, as it is kept.
  struct Kept {
    std::shared_ptr<const Exchange> exchange;  ///< Null: it is a note.
    std::string note;                          ///< With its line feed.
    std::size_t bytes = 0;                     ///< That it takes.
  };
  struct KeptLines {
    std::vector<Kept> lines;
    std::uint64_t next = 0;  ///< The number of the one that comes next, counted from the first of all.
  };
  struct Filter {
    std::optional<std::string> site;
    bool only_notes = false;   ///< What the server says of itself.
    bool only_errors = false;  ///< Statuses from 400 on, and clients that left.
  };
  /// Those from number `first` on that are still kept and that `filter` lets through, at most the last `most`. From any
  /// thread.
  KeptLines kept(std::uint64_t first, std::size_t most, const Filter& filter);

  /// Has `then` called, on the journal's thread, whenever there is more that is kept, until unsubscribe() with the
  /// number that is returned. From any thread.
  std::uint64_t subscribe(std::function<void()> then);
  /// After its return the function is not called any more.
  void unsubscribe(std::uint64_t number);

  /// Returns once all that was handed over before is kept, or after a moment. From any thread but its own.
  void catch_up();

  /// While held back, nothing is written.
  void hold_back();
  /// Writes `lines` before all that waits, and ends the holding back.
  void release(std::string_view lines);

 private:
  /// Exchanges and notes, on their way from who hands them over.
  struct Arrived {
    std::vector<std::vector<Exchange>> exchanges;
    std::vector<std::pair<std::chrono::steady_clock::time_point, std::string>> notes;
    bool is_empty() const { return exchanges.empty() && notes.empty(); }
  };
  struct Line {
    std::chrono::steady_clock::time_point time;
    Kept kept;
  };

  void run();
  /// Handles what has arrived once more; false: all is written, and the end has come. Throws where memory lacks.
  bool step();
  Arrived wait_for_more();
  /// Puts in order what has arrived; what may still be overtaken stays for the next time.
  std::vector<Line> put_in_order(Arrived arrived, std::chrono::steady_clock::time_point settled);
  /// As they are to be written; those are left out for which there is no room.
  std::string text_of(const std::vector<Line>& lines);
  void keep(std::vector<Line> lines);
  void write_out();

  PatientWriter out_;  // The thread's own, as are the next seven.
  const bool is_standard_output_;
  const Keep keep_;
  const Colour colour_;
  std::vector<Line> unsettled_;
  std::string unwritten_;
  std::size_t in_hand_ = 0;      ///< Lines that are lost if memory lacks now.
  bool is_last_ = false;         ///< What has arrived is the last there is.
  std::uint64_t asked_for_ = 0;  ///< As asked_ was when it was looked at last.

  std::mutex mutex_;
  std::condition_variable changed_;
  Arrived arrived_;  // Guarded by mutex_, as are those below.
  std::size_t arrived_count_ = 0;
  std::size_t dropped_ = 0;
  std::deque<Kept> kept_;
  std::size_t kept_bytes_ = 0;
  std::uint64_t next_number_ = 0;
  std::string first_lines_;
  bool held_back_ = false;
  bool sleeping_ = false;  ///< The thread waits for `changed_`.
  bool finishing_ = false;
  std::uint64_t asked_ = 0;  ///< How often somebody has asked for all that there is.
  std::uint64_t told_ = 0;   ///< As asked_ was when all had been kept.
  std::condition_variable caught_up_;
  std::chrono::steady_clock::time_point give_up_;  ///< When what is left is not written any more.

  std::mutex subscribers_mutex_;
  std::map<std::uint64_t, std::function<void()>> subscribers_;  // Guarded by subscribers_mutex_.
  std::uint64_t next_subscriber_ = 1;
  std::thread thread_;
};

}  // namespace porter::server
