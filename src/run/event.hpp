// Something that coroutines of one thread can wait for until it has happened.
#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/as_tuple.hpp>
#include <boost/asio/awaitable.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <chrono>
#include <set>
#include <utility>

namespace porter::run {

namespace asio = boost::asio;
using Clock = std::chrono::steady_clock;

/// Completion token: waits in a coroutine and gives (error, …) as a tuple, since errors here are values.
inline constexpr auto kAwait = asio::as_tuple(asio::use_awaitable);

/// Not for use from two threads.
class Event {
 public:
  explicit Event(asio::any_io_executor executor) : executor_(std::move(executor)) {}

  void set() {
    is_set_ = true;
    for (asio::steady_timer* const timer : waiting_) timer->cancel();
  }
  bool is_set() const { return is_set_; }

  asio::awaitable<void> wait() { co_await wait_until(Clock::time_point::max()); }
  /// Waits until it has happened or `time` has come.
  asio::awaitable<void> wait_until(Clock::time_point time) {
    if (is_set_) co_return;
    asio::steady_timer timer(executor_, time);
    waiting_.insert(&timer);
    while (!is_set_ && Clock::now() < time) co_await timer.async_wait(kAwait);
    waiting_.erase(&timer);
  }

 private:
  asio::any_io_executor executor_;
  std::set<asio::steady_timer*> waiting_;
  bool is_set_ = false;
};

}  // namespace porter::run
