// Helpers: threads for work that would keep a thread with an event loop from all else for more than a few milliseconds.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/this_coro.hpp>
#include <boost/asio/thread_pool.hpp>
#include <exception>
#include <mutex>
#include <optional>
#include <thread>
#include <type_traits>
#include <utility>

#include "run/event.hpp"

namespace porter::run {

/// It outlives all coroutines that use it. Its threads are made when the first piece of work comes.
class Helpers {
 public:
  /// Does `work` on a thread of its own, and gives what it returns; what it throws is thrown here. The coroutine waits
  /// meanwhile, so `work` may use what belongs to it. From any thread with an event loop.
  template <typename Work>
  asio::awaitable<std::invoke_result_t<Work>> run(Work work) {
    const asio::any_io_executor home = co_await asio::this_coro::executor;
    std::optional<std::invoke_result_t<Work>> result;
    std::exception_ptr failure;
    Event done(home);
    asio::post(pool(), [&] {
      try {
        result.emplace(work());
      } catch (...) {
        failure = std::current_exception();
      }
      asio::post(home, [&done] { done.set(); });
    });
    co_await done.wait();
    if (failure) std::rethrow_exception(failure);
    co_return std::move(*result);
  }

 private:
  asio::thread_pool& pool() {
    std::call_once(is_made_, [this] { pool_.emplace(std::max(1U, std::thread::hardware_concurrency())); });
    return *pool_;
  }

  std::once_flag is_made_;
  std::optional<asio::thread_pool> pool_;
};

}  // namespace porter::run
