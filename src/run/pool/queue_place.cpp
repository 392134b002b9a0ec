// A place in a pool's queue, and a thread's way there. See pool.hpp.
#include <algorithm>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/post.hpp>
#include <exception>
#include <limits>
#include <utility>

#include "run/pool/pool.hpp"

namespace porter::run {

QueuePlace::~QueuePlace() {
  if (process_ && sent_) {
    pool_->discard(std::move(process_));
  } else if (process_) {
    pool_->give_back(std::move(process_), FastCgiPeer::Reusable::yes);
  } else if (may_start_) {
    pool_->give_up_place();
  }
}

void QueuePlace::come() {
  if (std::exchange(has_come_, true)) return;
  wakeup_.wake();
}

asio::awaitable<bool> QueuePlace::come_by(Clock::time_point time) {
  const auto self = shared_from_this();
  until_ = time;
  while (!has_come_ && !is_given_up()) {
    auto waiting = wakeup_.wait_until(Clock::time_point::max());
    co_await std::move(waiting);
  }
  co_return has_come_;
}

bool QueuePlace::look(Clock::time_point now) {
  if (has_come_ || is_given_up()) return false;
  if (is_begun()) {
    come();
  } else if (now >= until_) {
    give_up();
  }
  return !has_come_;
}

void QueuePlace::give_up() {
  {
    // Not there any more: what is set aside is on its way, and goes back as soon as nobody takes it.
    const std::lock_guard lock(pool_->mutex_);
    std::erase(pool_->waiting_, shared_from_this());
    is_given_up_ = true;
  }
  // Whoever waits goes on from a place of its own.
  asio::post(executor_, [self = shared_from_this()] { self->wakeup_.wake(); });
}

bool QueuePlace::is_given_up() {
  const std::lock_guard lock(pool_->mutex_);
  return is_given_up_;
}

bool QueuePlace::is_begun() {
  const std::lock_guard lock(pool_->mutex_);
  return is_begun_;
}

std::shared_ptr<QueuePlace> PoolAccess::line_up(FastCgiRun::Order& order, std::size_t queue) {
  waiting_.reserve(waiting_.size() + 1);
  auto place = pool_->line_up(executor_, order, queue);
  if (!place) return nullptr;
  waiting_.push_back(place);
  if (!is_looked_after_) look_at_waiting();
  return place;
}

void PoolAccess::look_at_waiting() {
  constexpr auto kBetweenLooks = 2 * kShortRun;
  const auto now = Clock::now();
  if (!waiting_.empty()) pool_->look_at_work(now);
  // Whoever goes on within a look may line up again.
  for (auto& waiting : std::exchange(waiting_, {}))
    if (const auto place = waiting.lock(); place && place->look(now)) waiting_.push_back(std::move(waiting));
  is_looked_after_ = !waiting_.empty() && alarm_.set(now + kBetweenLooks, [self = weak_from_this()] {
    if (const auto share = self.lock()) share->look_at_waiting();
  });
}

void PoolAccess::ask(std::function<void(std::shared_ptr<FastCgiPeer>)> then) {
  auto taken = pool_->take(executor_);
  if (auto* const peer = std::get_if<std::shared_ptr<FastCgiPeer>>(&taken)) return then(std::move(*peer));
  if (std::holds_alternative<StartError>(taken)) return then(nullptr);
  // It has waited before, so it has a place in any case; what it asks is not sent before it is there.
  FastCgiRun::Order none;
  auto place = line_up(none, std::numeric_limits<std::size_t>::max());
  asio::co_spawn(executor_, wait_for_one(shared_from_this(), std::move(place), std::move(then)),
                 [](const std::exception_ptr&) {});
}

asio::awaitable<void> PoolAccess::wait_for_one(std::shared_ptr<PoolAccess> share, std::shared_ptr<QueuePlace> place,
                                               std::function<void(std::shared_ptr<FastCgiPeer>)> then) {
  for (;;) {
    auto coming = place->come_by(Clock::time_point::max());
    co_await std::move(coming);
    auto taken = share->take(place.get());
    if (auto* const peer = std::get_if<std::shared_ptr<FastCgiPeer>>(&taken)) co_return then(std::move(*peer));
    if (std::holds_alternative<StartError>(taken)) co_return then(nullptr);
    // What was set aside had ended, and others have the rest.
    FastCgiRun::Order none;
    place = share->line_up(none, std::numeric_limits<std::size_t>::max());
  }
}

}  // namespace porter::run
