// The gate: how many scripts run at once, over all threads, and the queue of those that wait for their turn.
#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <cstddef>
#include <deque>
#include <memory>
#include <mutex>

#include "run/event.hpp"

namespace porter::run {

class Gate : public std::enable_shared_from_this<Gate> {
 public:
  /// At most `runs` at once (at least 1), and `queue` more that wait.
  Gate(std::size_t runs, std::size_t queue) : most_running_(runs), most_waiting_(queue) {}

  /// Leave to run, for as long as it is held.
  using Ticket = std::shared_ptr<void>;

  /// Waits for a turn; requests come through in the order in which they came. Null: the queue is full. To be called
  /// from a coroutine on `executor`, which has one thread.
  asio::awaitable<Ticket> enter(asio::any_io_executor executor);

  /// Scripts that run now. From any thread.
  std::size_t running();
  std::size_t most_running() const { return most_running_; }
  std::size_t most_waiting() const { return most_waiting_; }

 private:
  struct Waiter {
    asio::any_io_executor executor;
    Event turn;
  };

  Ticket make_ticket();
  void leave();

  const std::size_t most_running_;
  const std::size_t most_waiting_;
  std::mutex mutex_;
  std::size_t running_ = 0;  // Guarded by mutex_, as is the next.
  std::deque<std::shared_ptr<Waiter>> waiting_;
};

}  // namespace porter::run
