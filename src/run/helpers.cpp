// The threads, and the queue of what they have to do. See helpers.hpp.
#include "run/helpers.hpp"

#include <condition_variable>
#include <csignal>
#include <deque>
#include <system_error>

namespace porter::run {
namespace {

/// A thread that has had nothing to do for so long ends, unless it is the last one.
constexpr std::chrono::seconds kIdleTime{5};
/// Beyond so many threads that do not come back, work waits until one does.
constexpr std::size_t kMostLost = 32;

}  // namespace

struct Helpers::State {
  explicit State(std::size_t wanted) : most(wanted) {}

  const std::size_t most;
  std::mutex mutex;
  std::condition_variable news;
  std::deque<Task> tasks;   // Guarded by mutex, as are those below.
  std::size_t threads = 0;  ///< All of them but the lost ones.
  std::size_t idle = 0;
  std::size_t lost = 0;  ///< Those whose work was given up and is not over.
  bool is_closed = false;
};

Helpers::Helpers(std::size_t most) : state_(std::make_shared<State>(most)) { add_thread(state_); }

Helpers::~Helpers() {
  std::unique_lock lock(state_->mutex);
  state_->is_closed = true;
  state_->news.notify_all();
  state_->news.wait(lock, [this] { return state_->threads == 0; });
}

void Helpers::add_thread(const std::shared_ptr<State>& state) {
  // Signals are the main thread's. Blocked, SIGCHLD would not be ignored any more, see WorkerThread.
  sigset_t all;
  sigset_t before;
  ::sigfillset(&all);
  ::sigdelset(&all, SIGCHLD);
  ::pthread_sigmask(SIG_SETMASK, &all, &before);
  {
    const std::lock_guard lock(state->mutex);
    ++state->threads;
  }
  std::exception_ptr failure;
  try {
    std::thread([state] { work_on(state); }).detach();
  } catch (...) {
    failure = std::current_exception();
  }
  ::pthread_sigmask(SIG_SETMASK, &before, nullptr);
  if (!failure) return;
  {
    const std::lock_guard lock(state->mutex);
    --state->threads;
  }
  std::rethrow_exception(failure);
}

void Helpers::hand_over(Task task) {
  bool is_one_more_wanted = false;
  {
    const std::lock_guard lock(state_->mutex);
    state_->tasks.push_back(std::move(task));
    is_one_more_wanted = state_->tasks.size() > state_->idle && state_->threads < state_->most;
  }
  state_->news.notify_one();
  if (!is_one_more_wanted) return;
  try {
    add_thread(state_);
  } catch (const std::exception&) {
    // Those that there are will do.
  }
}

void Helpers::give_up(const std::shared_ptr<Mark>& mark) noexcept {
  {
    const std::lock_guard lock(state_->mutex);
    const bool is_waiting = std::erase_if(state_->tasks, [&](const Task& task) { return task.mark == mark; }) > 0;
    if (is_waiting || mark->is_over) return;
    mark->is_given_up = true;
    --state_->threads;
    ++state_->lost;
    if (state_->lost > kMostLost) return;
  }
  try {
    add_thread(state_);
  } catch (const std::exception&) {
    // The lost one goes on when it comes back.
  }
}

void Helpers::work_on(const std::shared_ptr<State>& state) {
  std::unique_lock lock(state->mutex);
  for (;;) {
    const auto is_wanted = [&] { return state->is_closed || !state->tasks.empty(); };
    ++state->idle;
    // The last one waits for as long as it takes; a server at rest does nothing at all.
    while (!is_wanted() && state->threads == 1) state->news.wait(lock);
    const bool has_work = is_wanted() || state->news.wait_for(lock, kIdleTime, is_wanted);
    --state->idle;
    if (!has_work && state->threads == 1) continue;
    if (state->tasks.empty()) break;
    Task task = std::move(state->tasks.front());
    state->tasks.pop_front();
    lock.unlock();
    task.work();
    task.work = nullptr;
    lock.lock();
    if (task.mark) task.mark->is_over = true;
    if (task.mark && task.mark->is_given_up) {
      --state->lost;
      // Another has its place, unless none could be made.
      if (state->threads > 0 || state->is_closed) return;
      ++state->threads;
    }
  }
  --state->threads;
  state->news.notify_all();
}

}  // namespace porter::run
