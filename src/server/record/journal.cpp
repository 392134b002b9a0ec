// The journal's thread. See journal.hpp.
#include "server/record/journal.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <cerrno>
#include <chrono>
#include <utility>

namespace porter::server {
namespace {

constexpr std::size_t kMostWaiting = 4 * 1024 * 1024;
constexpr std::chrono::milliseconds kGather{20};
constexpr std::size_t kMostKept = 512 * 1024;
/// How long the thread waits for a reader before it looks whether it is to end.
constexpr std::chrono::milliseconds kLookForEnd{100};
constexpr std::chrono::seconds kPatienceAtEnd{1};

}  // namespace

Journal::Journal(int out, Keep keep) : out_(out), keep_(keep), thread_([this] { run(); }) {}

Journal::~Journal() {
  {
    const std::lock_guard lock(mutex_);
    finishing_ = true;
    held_back_ = false;
    give_up_ = std::chrono::steady_clock::now() + kPatienceAtEnd;
  }
  changed_.notify_one();
  thread_.join();
}

void Journal::write(std::string_view lines, std::span<const Mark> marks) {
  bool wake = false;
  {
    const std::lock_guard lock(mutex_);
    if (keep_ == Keep::last_lines) keep(lines, marks);
    if (waiting_.size() + lines.size() > kMostWaiting) {
      ++dropped_;
      return;
    }
    if (dropped_ > 0) waiting_ += fmt::format("({} lines could not be written)\n", std::exchange(dropped_, 0));
    waiting_ += lines;
    wake = sleeping_ && !held_back_;
  }
  if (wake) changed_.notify_one();
}

void Journal::write_note(std::string_view line) {
  const Mark mark{static_cast<std::uint32_t>(line.size()), 0, -1};
  write(line, {&mark, 1});
}

void Journal::keep(std::string_view lines, std::span<const Mark> marks) {
  kept_.push_back({next_number_, std::string(lines), {marks.begin(), marks.end()}});
  next_number_ += marks.size();
  kept_bytes_ += lines.size();
  while (kept_bytes_ > kMostKept && kept_.size() > 1) {
    kept_bytes_ -= kept_.front().text.size();
    kept_.pop_front();
  }
}

std::uint32_t Journal::site_number(const std::string& name) {
  const std::lock_guard lock(mutex_);
  const auto [known, is_new] = site_numbers_.try_emplace(name, static_cast<std::uint32_t>(sites_.size()));
  if (is_new) sites_.push_back(name);
  return known->second;
}

Journal::KeptLines Journal::kept_lines(std::uint64_t first, std::size_t most, const Filter& filter) {
  const std::lock_guard lock(mutex_);
  std::vector<Kept> out;
  for (const Batch& batch : kept_) {
    std::string_view rest = batch.text;
    for (std::size_t i = 0; i < batch.marks.size(); ++i) {
      const Mark& mark = batch.marks[i];
      const std::string_view line = rest.substr(0, mark.length);
      rest.remove_prefix(line.size());
      if (batch.first + i < first) continue;
      if (filter.site && sites_[mark.site] != *filter.site) continue;
      if (filter.only_errors && mark.status != 0 && mark.status < 400) continue;
      out.push_back({sites_[mark.site], mark.status, std::string(line.substr(0, line.size() - 1))});
    }
  }
  if (out.size() > most) out.erase(out.begin(), out.end() - static_cast<std::ptrdiff_t>(most));
  return {std::move(out), next_number_};
}

void Journal::hold_back() {
  const std::lock_guard lock(mutex_);
  held_back_ = true;
}

void Journal::release(std::string_view lines) {
  {
    const std::lock_guard lock(mutex_);
    waiting_.insert(0, lines);
    held_back_ = false;
  }
  changed_.notify_one();
}

void Journal::run() {
  std::string batch;
  for (;;) {
    bool last = false;
    {
      std::unique_lock lock(mutex_);
      sleeping_ = true;
      changed_.wait(lock, [this] { return finishing_ || (!waiting_.empty() && !held_back_); });
      sleeping_ = false;
      last = finishing_;
      batch.clear();
      batch.swap(waiting_);
    }
    for (std::string_view rest = batch; !rest.empty();) {
      const auto written = out_.write(rest, kLookForEnd);
      rest.remove_prefix(written.bytes);
      if (written.error != 0) break;  // Nobody reads any more; serving goes on.
      const std::lock_guard lock(mutex_);
      if (finishing_ && std::chrono::steady_clock::now() > give_up_) return;
    }
    if (last) return;
    std::this_thread::sleep_for(kGather);
  }
}

}  // namespace porter::server
