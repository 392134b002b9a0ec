// All pools of a server. See pool.hpp.
#include <utility>

#include "run/pool/pool.hpp"

namespace porter::run {

std::shared_ptr<KeptPool> KeptPools::of(const KeptOrder& order) {
  const std::lock_guard lock(mutex_);
  for (const auto& pool : pools_)
    if (!pool->is_retired() && pool->order() == order) return pool;
  auto pool = pools_.emplace_back(std::make_shared<KeptPool>(order, folder_, keeper_));
  if (is_closed_) pool->retire();
  return pool;
}

void KeptPools::keep_only(const std::function<bool(const KeptOrder&)>& is_wanted) {
  const std::lock_guard lock(mutex_);
  for (const auto& pool : pools_)
    if (!is_wanted(pool->order())) pool->retire();
  std::erase_if(pools_, [](const auto& pool) { return pool->is_retired(); });
}

std::vector<std::shared_ptr<KeptPool>> KeptPools::all() {
  const std::lock_guard lock(mutex_);
  return pools_;
}

bool KeptPools::end_longest_idle() {
  std::shared_ptr<KeptPool> oldest;
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

void KeptPools::clear() {
  const std::lock_guard lock(mutex_);
  pools_.clear();
}

void KeptPools::close() {
  const std::lock_guard lock(mutex_);
  is_closed_ = true;
  for (const auto& pool : pools_) pool->retire();
}

}  // namespace porter::run
