// Passing turns on from one thread to another. See gate.hpp.
#include "run/gate.hpp"

#include <boost/asio/post.hpp>

namespace porter::run {

std::size_t Gate::running() {
  const std::lock_guard lock(mutex_);
  return running_;
}

Gate::Ticket Gate::make_ticket() {
  return Ticket(this, [gate = shared_from_this()](void*) { gate->leave(); });
}

asio::awaitable<Gate::Ticket> Gate::enter(asio::any_io_executor executor) {
  std::shared_ptr<Waiter> waiter;
  {
    const std::lock_guard lock(mutex_);
    if (running_ < most_running_) {
      ++running_;
    } else if (waiting_.size() >= most_waiting_) {
      co_return nullptr;
    } else {
      waiter = std::make_shared<Waiter>(Waiter{executor, Event(executor)});
      waiting_.push_back(waiter);
    }
  }
  // Whoever leaves hands its place on, so the count of those running stays as it is.
  if (waiter) co_await waiter->turn.wait();
  co_return make_ticket();
}

void Gate::leave() {
  std::shared_ptr<Waiter> next;
  {
    const std::lock_guard lock(mutex_);
    if (waiting_.empty()) {
      --running_;
      return;
    }
    next = std::move(waiting_.front());
    waiting_.pop_front();
  }
  asio::post(next->executor, [next] { next->turn.set(); });
}

}  // namespace porter::run
