// Passing turns on from one thread to another. See gate.hpp.
#include "run/gate.hpp"

#include <algorithm>
#include <boost/asio/post.hpp>

namespace porter::run {

std::size_t Gate::running() {
  const std::lock_guard lock(mutex_);
  return running_;
}

std::size_t Gate::waiting() {
  const std::lock_guard lock(mutex_);
  return waiting_.size();
}

Gate::Ticket Gate::make_ticket() {
  return Ticket(this, [gate = shared_from_this()](void*) { gate->leave(); });
}

Gate::Ticket Gate::try_enter() {
  {
    const std::lock_guard lock(mutex_);
    if (running_ >= most_running_) return nullptr;
    ++running_;
  }
  return make_ticket();
}

std::shared_ptr<Gate::Place> Gate::line_up(const asio::any_io_executor& executor) {
  auto place = std::make_shared<Place>(shared_from_this(), executor);
  bool is_turn = false;
  {
    const std::lock_guard lock(mutex_);
    is_turn = running_ < most_running_;
    if (is_turn) {
      ++running_;
    } else if (waiting_.size() >= most_waiting_) {
      return nullptr;
    } else {
      waiting_.push_back(place);
    }
  }
  if (is_turn) {
    place->ticket_ = make_ticket();
    place->called_.set();
  }
  return place;
}

asio::awaitable<Gate::Ticket> Gate::Place::turn() {
  const auto self = shared_from_this();
  co_await called_.wait();
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

void Gate::leave() {
  std::shared_ptr<Place> next;
  {
    const std::lock_guard lock(mutex_);
    if (waiting_.empty()) {
      --running_;
      return;
    }
    next = std::move(waiting_.front());
    waiting_.pop_front();
  }
  // Whoever leaves hands its place on, so the count of those running stays as it is.
  asio::post(next->executor_, [next, ticket = make_ticket()] {
    next->ticket_ = ticket;
    next->called_.set();
  });
}

}  // namespace porter::run
