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

  /// A place in the queue. It belongs to the thread of the executor that it was made for.
  class Place : public std::enable_shared_from_this<Place> {
   public:
    Place(std::shared_ptr<Gate> gate, const asio::any_io_executor& executor)
        : gate_(std::move(gate)), executor_(executor), called_(executor) {}

    /// Waits for the turn. Null: the place was given up.
    asio::awaitable<Ticket> turn();
    /// Leaves the queue at once; turn() returns.
    void give_up();

   private:
    friend class Gate;

    std::shared_ptr<Gate> gate_;
    asio::any_io_executor executor_;
    Event called_;
    Ticket ticket_;
  };

  /// Leave to run if nothing stands in the way of it; else null. From any thread.
  Ticket try_enter();
  /// A place at the end of the queue, which moves in the order in which requests came. Null: the queue is full.
  /// `executor` has one thread, on which this is called. It may be the turn already.
  std::shared_ptr<Place> line_up(const asio::any_io_executor& executor);

  /// Scripts that run now. From any thread.
  std::size_t running();
  std::size_t waiting();
  std::size_t most_running() const { return most_running_; }
  std::size_t most_waiting() const { return most_waiting_; }

 private:
  Ticket make_ticket();
  void leave();

  const std::size_t most_running_;
  const std::size_t most_waiting_;
  std::mutex mutex_;
  std::size_t running_ = 0;  // Guarded by mutex_, as is the next.
  std::deque<std::shared_ptr<Place>> waiting_;
};

}  // namespace porter::run
