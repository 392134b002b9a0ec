// Measuring, and ending what is idle. See memory.hpp.
#include "run/pool/memory.hpp"

#include <algorithm>
#include <charconv>
#include <new>
#include <string>
#include <string_view>

#include "core/text/text.hpp"
#include "run/proc.hpp"

namespace porter::run {
namespace {

/// The number of KiB behind `name` in a process's status, as bytes.
std::size_t bytes_of(std::string_view status, std::string_view name) {
  std::size_t at = status.find(name);
  if (at == status.npos) return 0;
  at = status.find_first_not_of(" \t", at + name.size());
  std::size_t kib = 0;
  if (at != status.npos) std::from_chars(status.data() + at, status.data() + status.size(), kib);
  return kib * 1024;
}

/// The most that the process has had to itself, which its next run may take again: not the files that it has mapped,
/// which others share.
std::size_t own_memory(pid_t id) {
  const std::string status = proc_content(id, "status");
  const std::size_t peak = bytes_of(status, "\nVmHWM:");
  return peak - std::min(peak, bytes_of(status, "\nRssFile:"));
}

}  // namespace

void PoolMemory::expect() {
  ++expected_;
  expected_at_ = Clock::now().time_since_epoch().count();
}

void PoolMemory::add(pid_t process) {
  const std::lock_guard lock(mutex_);
  processes_[process] = {usual_};
  taken_ += usual_;
  for (std::size_t coming = expected_; coming > 0 && !expected_.compare_exchange_weak(coming, coming - 1);) {
  }
}

void PoolMemory::remove(pid_t process) {
  const std::lock_guard lock(mutex_);
  const auto found = processes_.find(process);
  if (found == processes_.end()) return;
  taken_ -= found->second.bytes;
  processes_.erase(found);
}

void PoolMemory::measure() {
  // One that has only just been begun is as large as others before long.
  constexpr std::chrono::seconds kYoung{1};
  const std::lock_guard lock(mutex_);
  const auto now = Clock::now();
  // Whoever was not begun by now will not be: its start failed, or it was given up.
  if (now.time_since_epoch().count() - expected_at_ > Clock::duration(kYoung).count()) expected_ = 0;
  std::size_t sum = 0;
  for (auto& [id, process] : processes_) {
    const bool is_young = now - process.begun < kYoung;
    process.bytes = std::max<std::size_t>(own_memory(id), is_young ? usual_.load() : 0);
    sum += process.bytes;
  }
  taken_ = sum;
  constexpr std::size_t kLeast = std::size_t{4} << 20;
  if (!processes_.empty()) usual_ = std::max(sum / processes_.size(), kLeast);
}

void PoolMemory::make_room(Clock::time_point now) {
  constexpr std::chrono::milliseconds kBetweenLooks{20};
  Clock::rep last = looked_at_;
  const bool is_due = now.time_since_epoch().count() - last >= Clock::duration(kBetweenLooks).count();
  try {
    if (is_due && looked_at_.compare_exchange_strong(last, now.time_since_epoch().count())) measure();
    while (!has_room() && end_idle_()) {
    }
  } catch (const std::bad_alloc&) {
    // The next look may have more luck.
  }
}

std::string taken_memory(const PoolMemory& memory) {
  return "the persistent processes take " + text::format_size(memory.taken()) + ", and pool-memory is " +
         text::format_limit(memory.bound());
}

void PoolMemory::look(Clock::time_point now) {
  constexpr std::chrono::milliseconds kBetweenLooks{250};
  if (now.time_since_epoch().count() - looked_at_ < Clock::duration(kBetweenLooks).count()) return;
  make_room(now);
}

}  // namespace porter::run
