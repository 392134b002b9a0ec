// Passing slots on from one thread to another. See gate.hpp.
#include "run/gate.hpp"

#include <algorithm>
#include <boost/asio/post.hpp>
#include <exception>
#include <utility>

namespace porter::run {

Gate::Pass::~Pass() {
  {
    const std::lock_guard lock(gate_->mutex_);
    std::erase(gate_->passes_, this);
    if (has_slot_) --gate_->with_slot_;
  }
  gate_->call_next_if_possible();
}

void Gate::Pass::give_slot_back() {
  {
    const std::lock_guard lock(gate_->mutex_);
    run_.streams = true;
    if (std::exchange(has_slot_, false)) --gate_->with_slot_;
  }
  gate_->call_next_if_possible();
}

void Gate::Pass::set_process(pid_t process) {
  const std::lock_guard lock(gate_->mutex_);
  run_.process = process;
}

void Gate::set_bounds(Bounds bounds) {
  {
    const std::lock_guard lock(mutex_);
    bounds_ = bounds;
  }
  call_next();
}

Gate::Bounds Gate::bounds() {
  const std::lock_guard lock(mutex_);
  return bounds_;
}

Gate::State Gate::state() {
  State state;
  {
    const std::lock_guard lock(mutex_);
    state.waiting = waiting_.size();
    for (const Pass* const pass : passes_) state.runs.push_back(pass->run_);
  }
  std::sort(state.runs.begin(), state.runs.end(), [](const Run& a, const Run& b) { return a.since < b.since; });
  return state;
}

Gate::Ticket Gate::admit(Run run, bool has_slot) {
  run.since = std::chrono::system_clock::now();
  // Once there is a pass nothing may fail: giving it back would wait for the mutex.
  if (passes_.size() == passes_.capacity()) passes_.reserve(2 * passes_.size() + 8);
  auto ticket = std::make_shared<Pass>(Pass::Key(), shared_from_this(), std::move(run), has_slot);
  passes_.push_back(ticket.get());
  if (has_slot) ++with_slot_;
  return ticket;
}

Gate::Ticket Gate::try_enter(Run run) {
  const std::lock_guard lock(mutex_);
  // Nobody passes by those who wait already.
  return has_room() && waiting_.empty() ? admit(std::move(run), true) : nullptr;
}

Gate::Ticket Gate::enter_beside(Run run) {
  const std::lock_guard lock(mutex_);
  return admit(std::move(run), false);
}

bool Gate::is_full() {
  const std::lock_guard lock(mutex_);
  return passes_.size() >= bounds_.runs;
}

std::shared_ptr<Gate::Place> Gate::line_up(const asio::any_io_executor& executor, const Run& run) {
  auto place = std::make_shared<Place>(shared_from_this(), executor, run);
  {
    const std::lock_guard lock(mutex_);
    if (waiting_.size() >= bounds_.queue && !(has_room() && waiting_.empty())) return nullptr;
    waiting_.push_back(place);
  }
  call_next();
  return place;
}

void Gate::look_at_work(Clock::time_point now) {
  constexpr std::chrono::milliseconds kBetweenLooks{20};
  {
    const std::lock_guard lock(mutex_);
    if (bounds_.most_slots <= bounds_.slots || now - looked_at_work_ < kBetweenLooks) return;
    looked_at_work_ = now;
    waiting_at_work_ = 0;
    for (Pass* const pass : passes_)
      if (pass->has_slot_ && pass->run_.process > 0 && pass->work_.is_waiting(pass->run_.process, now))
        ++waiting_at_work_;
  }
  call_next();
}

void Gate::call_next() {
  for (;;) {
    std::shared_ptr<Place> next;
    Ticket ticket;
    {
      const std::lock_guard lock(mutex_);
      if (waiting_.empty() || !has_room()) return;
      ticket = admit(waiting_.front()->run_, true);
      next = std::move(waiting_.front());
      waiting_.pop_front();
    }
    const auto executor = next->executor_;
    asio::post(executor, [next = std::move(next), ticket = std::move(ticket)] {
      next->ticket_ = ticket;
      next->called_.set();
    });
  }
}

void Gate::call_next_if_possible() noexcept {
  try {
    call_next();
  } catch (const std::exception&) {
  }
}

asio::awaitable<Gate::Ticket> Gate::Place::slot_by(Clock::time_point time) {
  const auto self = shared_from_this();
  constexpr std::chrono::milliseconds kBetweenLooks{40};
  while (!called_.is_set() && Clock::now() < time) {
    auto waiting = called_.wait_until(std::min(time, Clock::now() + kBetweenLooks));
    co_await std::move(waiting);
    if (!called_.is_set()) gate_->look_at_work(Clock::now());
  }
  if (!called_.is_set()) give_up();
  co_return std::move(ticket_);
}

void Gate::Place::give_up() {
  {
    const std::lock_guard lock(gate_->mutex_);
    const auto place = std::find(gate_->waiting_.begin(), gate_->waiting_.end(), shared_from_this());
    // Not there any more: the ticket is on its way, and goes back as soon as nobody takes it.
    if (place == gate_->waiting_.end()) return;
    gate_->waiting_.erase(place);
  }
  called_.set();
}

}  // namespace porter::run
