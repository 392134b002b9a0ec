// See output.hpp.
#include "run/fastcgi/output.hpp"

#include <algorithm>
#include <utility>

namespace porter::run {
namespace {

/// Below that, many in one place are better than each in its own.
constexpr std::size_t kLarge = 16 * 1024;

/// Of a thread, for the next ones.
class Spare {
 public:
  static constexpr std::size_t kMost = 4;

  Spare() { all_.reserve(kMost); }
  ~Spare() { is_gone_ = true; }
  Spare(const Spare&) = delete;
  Spare& operator=(const Spare&) = delete;

  std::unique_ptr<char[]> take() {
    if (all_.empty()) return std::make_unique_for_overwrite<char[]>(kReadMemory);
    auto out = std::move(all_.back());
    all_.pop_back();
    return out;
  }
  void give_back(std::unique_ptr<char[]> memory) {
    if (!is_gone_ && all_.size() < kMost) all_.push_back(std::move(memory));
  }

 private:
  std::vector<std::unique_ptr<char[]>> all_;
  bool is_gone_ = false;
};

Spare& spare() {
  static thread_local Spare of_thread;
  return of_thread;
}

}  // namespace

std::shared_ptr<char[]> read_memory() {
  return {spare().take().release(), [](char* memory) { spare().give_back(std::unique_ptr<char[]>(memory)); }};
}

void HeldOutput::add(std::string_view bytes, const std::shared_ptr<char[]>& memory) {
  if (is_dropped_) return;
  if (bytes.size() >= kLarge) {
    parts_.push_back({memory, {}, bytes});
  } else if (!parts_.empty() && !parts_.back().memory && parts_.back().copy.size() < kLarge) {
    Part& last = parts_.back();
    const std::size_t taken = last.copy.size() - last.bytes.size();
    last.copy += bytes;
    last.bytes = std::string_view(last.copy).substr(taken);
  } else {
    Part& part = parts_.emplace_back();
    part.copy = bytes;
    part.bytes = part.copy;
  }
  size_ += bytes.size();
}

void HeldOutput::drop() {
  is_dropped_ = true;
  parts_.clear();
  size_ = 0;
}

std::size_t HeldOutput::take(std::span<char> buffer) {
  std::size_t taken = 0;
  while (!parts_.empty() && taken < buffer.size()) {
    Part& part = parts_.front();
    const std::size_t size = std::min(part.bytes.size(), buffer.size() - taken);
    std::copy_n(part.bytes.data(), size, buffer.data() + taken);
    taken += size;
    part.bytes.remove_prefix(size);
    if (part.bytes.empty()) parts_.pop_front();
  }
  size_ -= taken;
  return taken;
}

void HeldOutput::take(Pieces& pieces) {
  lent_.clear();
  lent_.reserve(Pieces::kMost);
  while (!parts_.empty() && !pieces.is_full()) {
    Part& part = lent_.emplace_back();
    // What a short string holds moves with it.
    const std::size_t taken = parts_.front().copy.size() - parts_.front().bytes.size();
    const bool is_copy = !parts_.front().memory;
    part = std::move(parts_.front());
    parts_.pop_front();
    if (is_copy) part.bytes = std::string_view(part.copy).substr(taken);
    size_ -= part.bytes.size();
    pieces.add(part.bytes);
  }
}

asio::awaitable<void> HeldOutput::come_by(Clock::time_point time) {
  while (!has_come() && Clock::now() < time) {
    auto waiting = wakeup_.wait_until(time);
    co_await std::move(waiting);
  }
}

}  // namespace porter::run
