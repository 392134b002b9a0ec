// All pools of a server. See pool.hpp.
#include <utility>

#include "run/pool/pool.hpp"

namespace porter::run {

std::shared_ptr<Pool> Pools::of(const PoolOrder& order) {
  const std::lock_guard lock(mutex_);
  for (const auto& pool : pools_)
    if (!pool->is_retired() && pool->order() == order) return pool;
  auto pool = pools_.emplace_back(std::make_shared<Pool>(order, folder_, keeper_, memory_, late_words_));
  if (is_closed_) pool->retire();
  return pool;
}

void Pools::keep_only(const std::function<bool(const PoolOrder&)>& is_wanted) {
  const std::lock_guard lock(mutex_);
  for (const auto& pool : pools_)
    if (!is_wanted(pool->order())) pool->retire();
  std::erase_if(pools_, [](const auto& pool) { return pool->is_retired(); });
}

std::vector<std::shared_ptr<Pool>> Pools::all() {
  const std::lock_guard lock(mutex_);
  return pools_;
}

bool Pools::end_longest_idle() {
  std::shared_ptr<Pool> oldest;
  auto since = Clock::time_point::max();
  for (const auto& pool : all())
    if (const auto idle = pool->idle_longest(); idle && *idle < since) {
      since = *idle;
      oldest = pool;
    }
  if (!oldest) return false;
  oldest->end_longest_idle();
  return true;
}

void Pools::clear() {
  const std::lock_guard lock(mutex_);
  pools_.clear();
}

void Pools::close() {
  const std::lock_guard lock(mutex_);
  is_closed_ = true;
  for (const auto& pool : pools_) pool->retire();
}

}  // namespace porter::run
