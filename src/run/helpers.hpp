// Helpers: threads for work that would keep a thread with an event loop from all else for more than a few milliseconds.
#pragma once

#include <algorithm>
#include <boost/asio/awaitable.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/this_coro.hpp>
#include <boost/asio/thread_pool.hpp>
#include <chrono>
#include <exception>
#include <new>
#include <optional>
#include <thread>
#include <type_traits>
#include <utility>

#include "run/event.hpp"

namespace porter::run {

/// It outlives all coroutines that use it. Its threads are made at once: a pool whose threads cannot all be made later
/// on, for lack of memory, would wait for the first of them for ever.
class Helpers {
 public:
  Helpers() : pool_(std::max(1U, std::thread::hardware_concurrency())) {}

  /// Does `work` on a thread of its own, and gives what it returns; what it throws is thrown here. The coroutine waits
  /// meanwhile, so `work` may use what belongs to it. From any thread with an event loop.
  template <typename Work>
  asio::awaitable<std::invoke_result_t<Work>> run(Work work) {
    const asio::any_io_executor home = co_await asio::this_coro::executor;
    std::optional<std::invoke_result_t<Work>> result;
    std::exception_ptr failure;
    Event done(home);
    asio::post(pool_, [&] {
      try {
        result.emplace(work());
      } catch (...) {
        failure = std::current_exception();
      }
      insist([&] { asio::post(home, [&done] { done.set(); }); });
    });
    // What the work uses is here, so nothing may go on before it is done.
    for (bool is_waited_for = false; !is_waited_for;) {
      try {
        co_await done.wait();
        is_waited_for = true;
      } catch (const std::bad_alloc&) {
        std::this_thread::yield();
      }
    }
    if (failure) std::rethrow_exception(failure);
    co_return std::move(*result);
  }

 private:
  /// Does what must be done, as soon as there is memory for it.
  template <typename Step>
  static void insist(Step step) {
    for (;;) {
      try {
        return step();
      } catch (const std::bad_alloc&) {
        std::this_thread::sleep_for(std::chrono::milliseconds(1));
      }
    }
  }

  asio::thread_pool pool_;
};

}  // namespace porter::run
