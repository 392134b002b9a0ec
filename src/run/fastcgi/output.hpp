// What a script has written and its client has not taken yet: so a script need not wait for a slow client, within
// bounds.
#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <cstddef>
#include <deque>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "run/event.hpp"
#include "run/pieces.hpp"

namespace porter::run {

/// Memory of kReadMemory bytes to read into. What is given back is kept for the next: new memory of that size costs
/// more than to copy what comes there.
std::shared_ptr<char[]> read_memory();
inline constexpr std::size_t kReadMemory = 256 * 1024;

/// For one thread, and for one who takes.
class HeldOutput {
 public:
  /// Bytes that are held before its writer has to wait.
  static constexpr std::size_t kMost = 4 * 1024 * 1024;

  explicit HeldOutput(const asio::any_io_executor& executor) : wakeup_(executor) {}

  /// Holds `bytes`, which lie in `memory`: many stay there.
  void add(std::string_view bytes, const std::shared_ptr<char[]>& memory);
  /// No more will come.
  void close() { is_closed_ = true; }
  /// Nobody will take it: what is held goes, and so does what comes.
  void drop();
  /// Whoever waits for it goes on, if there is anything to be told; within this call.
  void wake() {
    if (has_come()) wakeup_.wake();
  }

  /// True if there is something to take, or no more will come.
  bool has_come() const { return size_ > 0 || is_closed_; }
  bool is_full() const { return size_ >= kMost; }
  bool is_closed() const { return is_closed_; }
  std::size_t size() const { return size_; }

  /// Takes as much as there is room for. 0: nothing is held.
  std::size_t take(std::span<char> buffer);
  /// Adds to `pieces` what is held, as far as there is room. It lies here until there is taken again.
  void take(Pieces& pieces);
  /// Waits until has_come(), but not beyond `time`.
  asio::awaitable<void> come_by(Clock::time_point time);

 private:
  struct Part {
    std::shared_ptr<char[]> memory;  ///< Null: the bytes are those of `copy`.
    std::string copy;
    std::string_view bytes;
  };

  std::deque<Part> parts_;
  std::vector<Part> lent_;  ///< As `pieces` were given.
  std::size_t size_ = 0;
  bool is_closed_ = false;
  bool is_dropped_ = false;
  Wakeup wakeup_;
};

}  // namespace porter::run
