// Something that coroutines of one thread can wait for until it has happened.
#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/as_tuple.hpp>
#include <boost/asio/async_result.hpp>
#include <boost/asio/awaitable.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <chrono>
#include <memory>
#include <set>
#include <type_traits>
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
    // Also where there is no memory to wait.
    const Entry entry(waiting_, timer);
    while (!is_set_ && Clock::now() < time) co_await timer.async_wait(kAwait);
  }

 private:
  class Entry {
   public:
    Entry(std::set<asio::steady_timer*>& all, asio::steady_timer& timer) : all_(all), timer_(timer) {
      all_.insert(&timer_);
    }
    ~Entry() { all_.erase(&timer_); }
    Entry(const Entry&) = delete;
    Entry& operator=(const Entry&) = delete;

   private:
    std::set<asio::steady_timer*>& all_;
    asio::steady_timer& timer_;
  };

  asio::any_io_executor executor_;
  std::set<asio::steady_timer*> waiting_;
  bool is_set_ = false;
};

/// What one coroutine waits for, once. It goes on within call(), which saves most of what an Event costs.
class Call {
 public:
  void call() {
    is_called_ = true;
    if (const auto waiting = std::exchange(waiting_, nullptr)) waiting->go_on();
  }
  bool is_called() const { return is_called_; }

  asio::awaitable<void> wait() {
    if (is_called_) co_return;
    co_await asio::async_initiate<const asio::use_awaitable_t<>, void()>(
        [this](auto&& handler) {
          waiting_ =
              std::make_unique<Suspended<std::decay_t<decltype(handler)>>>(std::forward<decltype(handler)>(handler));
        },
        asio::use_awaitable);
  }

 private:
  struct Waiting {
    virtual ~Waiting() = default;
    virtual void go_on() = 0;
  };
  template <typename Handler>
  struct Suspended : Waiting {
    explicit Suspended(Handler&& handler) : handler_(std::move(handler)) {}
    void go_on() override { std::move(handler_)(); }
    Handler handler_;
  };

  std::unique_ptr<Waiting> waiting_;
  bool is_called_ = false;
};

/// What one coroutine waits for, again and again; it too goes on within wake().
class Wakeup {
 public:
  explicit Wakeup(const asio::any_io_executor& executor) : patience_(executor) {}

  void wake() {
    if (const auto waiting = std::exchange(waiting_, nullptr)) waiting->call();
  }
  /// Waits until it is woken, or `time` has come.
  asio::awaitable<void> wait_until(Clock::time_point time) {
    const auto call = waiting_ = std::make_shared<Call>();
    const bool is_bounded = time != Clock::time_point::max();
    if (is_bounded) {
      patience_.expires_at(time);
      patience_.async_wait([call](const boost::system::error_code& cancelled) {
        if (!cancelled && !call->is_called()) call->call();
      });
    }
    auto waiting = call->wait();
    co_await std::move(waiting);
    waiting_ = nullptr;
    if (is_bounded) patience_.cancel();
  }

 private:
  std::shared_ptr<Call> waiting_;
  asio::steady_timer patience_;
};

}  // namespace porter::run
