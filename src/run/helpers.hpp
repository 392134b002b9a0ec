// Helpers: threads for work that would keep a thread with an event loop from all else for more than a few milliseconds.
//
// Work of different kinds has helpers of its own, so that none waits for another kind: what looks at folders may hang
// on a mount that does not answer, and an export takes its time. Such work is given up after a while; its thread is
// left to come back by itself, and another takes its place.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/this_coro.hpp>
#include <chrono>
#include <cstddef>
#include <exception>
#include <functional>
#include <memory>
#include <mutex>
#include <new>
#include <optional>
#include <thread>
#include <type_traits>
#include <utility>

#include "run/event.hpp"

namespace porter::run {

/// It outlives all coroutines that use it. From any thread with an event loop.
class Helpers {
 public:
  /// The first of its threads is made at once, so that there is one whatever becomes of memory; the others, up to
  /// `most`, when there is work for them, and they end when there was none for a while.
  explicit Helpers(std::size_t most);
  /// Waits for what is in progress, but not for what was given up.
  ~Helpers();
  Helpers(const Helpers&) = delete;
  Helpers& operator=(const Helpers&) = delete;

  /// Does `work` on a helper's thread, and gives what it returns; what it throws is thrown here. The coroutine waits
  /// meanwhile, so `work` may use what belongs to it. For work that ends by itself.
  template <typename Work>
  asio::awaitable<std::invoke_result_t<Work>> run(Work work);

  /// The same for work that may never end: nullopt if it has not after `limit`, or when `news` is set before. `work`
  /// goes on then for as long as it likes, so it has to own all that it uses.
  template <typename Work>
  asio::awaitable<std::optional<std::invoke_result_t<Work>>> run_within(Clock::duration limit, Work work,
                                                                        std::shared_ptr<Event> news = nullptr);

 private:
  struct State;
  /// What has become of work that may be given up. Guarded by the mutex of the state.
  struct Mark {
    bool is_given_up = false;
    bool is_over = false;
  };
  struct Task {
    std::function<void()> work;
    std::shared_ptr<Mark> mark;  ///< Null: it is never given up.
  };

  void hand_over(Task task);
  /// Marks a task; another thread takes the place of the one that does it.
  void give_up(const std::shared_ptr<Mark>& mark) noexcept;
  static void add_thread(const std::shared_ptr<State>& state);
  static void work_on(const std::shared_ptr<State>& state);

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

  std::shared_ptr<State> state_;  ///< The threads have a share in it.
};

template <typename Work>
asio::awaitable<std::invoke_result_t<Work>> Helpers::run(Work work) {
  const asio::any_io_executor home = co_await asio::this_coro::executor;
  std::optional<std::invoke_result_t<Work>> result;
  std::exception_ptr failure;
  Event done(home);
  hand_over({[&] {
               try {
                 result.emplace(work());
               } catch (...) {
                 failure = std::current_exception();
               }
               insist([&] { asio::post(home, [&done] { done.set(); }); });
             },
             nullptr});
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

template <typename Work>
asio::awaitable<std::optional<std::invoke_result_t<Work>>> Helpers::run_within(Clock::duration limit, Work work,
                                                                               std::shared_ptr<Event> news) {
  const asio::any_io_executor home = co_await asio::this_coro::executor;
  if (!news) news = std::make_shared<Event>(home);
  /// What the work leaves for the coroutine, as long as that waits.
  struct Job {
    explicit Job(Work own) : work(std::move(own)) {}
    Work work;
    std::mutex mutex;
    bool is_waited_for = true;  // Guarded by mutex, as are those below.
    bool is_done = false;
    std::optional<std::invoke_result_t<Work>> result;
    std::exception_ptr failure;
  };
  const auto job = std::make_shared<Job>(std::move(work));
  const auto mark = std::make_shared<Mark>();
  /// However the coroutine ends, nobody waits for the job then.
  struct Waiting {
    Helpers& helpers;
    std::shared_ptr<Job> job;
    std::shared_ptr<Mark> mark;
    ~Waiting() {
      {
        const std::lock_guard lock(job->mutex);
        job->is_waited_for = false;
        if (job->is_done) return;
      }
      helpers.give_up(mark);
    }
  };
  hand_over({[job, home, news] {
               std::optional<std::invoke_result_t<Work>> result;
               std::exception_ptr failure;
               try {
                 result.emplace(job->work());
               } catch (...) {
                 failure = std::current_exception();
               }
               const std::lock_guard lock(job->mutex);
               job->is_done = true;
               job->result = std::move(result);
               job->failure = failure;
               // Who does not wait any more may be gone, its event loop included.
               if (job->is_waited_for) insist([&] { asio::post(home, [news] { news->set(); }); });
             },
             mark});
  const Waiting waiting{*this, job, mark};
  co_await news->wait_until(Clock::now() + limit);
  const std::lock_guard lock(job->mutex);
  if (job->failure) std::rethrow_exception(job->failure);
  co_return std::move(job->result);
}

}  // namespace porter::run
