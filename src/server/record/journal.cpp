// The journal's thread. See journal.hpp.
#include "server/record/journal.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <utility>

#include "core/text/text.hpp"
#include "machine/terminal.hpp"

namespace porter::server {
namespace {

using Clock = std::chrono::steady_clock;

/// Exchanges; the thread takes them many times a second, whatever else it waits for.
constexpr std::size_t kMostArrived = 64 * 1024;
constexpr std::size_t kMostUnwritten = 4 * 1024 * 1024;
constexpr std::size_t kMostKept = 1024 * 1024;
constexpr std::chrono::milliseconds kGather{20};
/// So many are not waited with: they would be gone from the nearer memory by then.
constexpr std::size_t kBurst = 256;
/// How long after its end an exchange may still be on its way from its worker.
constexpr std::chrono::milliseconds kOnTheWay{10};
/// How long the thread waits for a reader before it looks what else there is.
constexpr std::chrono::milliseconds kLookAround{100};
constexpr std::chrono::seconds kPatienceAtEnd{1};

std::size_t bytes_of(const Journal::Kept& kept) {
  return sizeof kept + (kept.exchange ? bytes_of(*kept.exchange) : kept.note.capacity());
}

bool passes(const Journal::Kept& kept, const Journal::Filter& filter) {
  if (!kept.exchange) return !filter.site;
  if (filter.only_notes) return false;
  const Exchange& exchange = *kept.exchange;
  if (filter.site && (!exchange.site || *exchange.site != *filter.site)) return false;
  return !filter.only_errors || exchange.status == 0 || exchange.status >= 400;
}

}  // namespace

Journal::Journal(int out, Keep keep, Colour colour)
    : out_(out), is_standard_output_(out == STDOUT_FILENO), keep_(keep), colour_(colour), thread_([this] { run(); }) {}

Journal::~Journal() {
  {
    const std::lock_guard lock(mutex_);
    finishing_ = true;
    held_back_ = false;
    give_up_ = Clock::now() + kPatienceAtEnd;
  }
  changed_.notify_one();
  thread_.join();
}

void Journal::record(std::vector<Exchange> exchanges) {
  bool wake = false;
  {
    const std::lock_guard lock(mutex_);
    if (arrived_count_ + exchanges.size() > kMostArrived) {
      dropped_ += exchanges.size();
      return;
    }
    arrived_count_ += exchanges.size();
    arrived_.exchanges.push_back(std::move(exchanges));
    const bool is_burst = arrived_count_ >= kBurst && arrived_count_ - arrived_.exchanges.back().size() < kBurst;
    wake = (sleeping_ || is_burst) && !held_back_;
  }
  if (wake) changed_.notify_one();
}

void Journal::write_note(std::string line) {
  {
    const std::lock_guard lock(mutex_);
    arrived_.notes.emplace_back(Clock::now(), std::move(line));
  }
  changed_.notify_one();
}

Journal::KeptLines Journal::kept(std::uint64_t first, std::size_t most, const Filter& filter) {
  const std::lock_guard lock(mutex_);
  const std::uint64_t oldest = next_number_ - kept_.size();
  KeptLines out{{}, next_number_};
  for (std::size_t i = first > oldest ? static_cast<std::size_t>(first - oldest) : 0; i < kept_.size(); ++i)
    if (passes(kept_[i], filter)) out.lines.push_back(kept_[i]);
  if (out.lines.size() > most) out.lines.erase(out.lines.begin(), out.lines.end() - static_cast<std::ptrdiff_t>(most));
  return out;
}

std::uint64_t Journal::subscribe(std::function<void()> then) {
  const std::lock_guard lock(subscribers_mutex_);
  subscribers_.emplace(next_subscriber_, std::move(then));
  return next_subscriber_++;
}

void Journal::unsubscribe(std::uint64_t number) {
  const std::lock_guard lock(subscribers_mutex_);
  subscribers_.erase(number);
}

void Journal::hold_back() {
  const std::lock_guard lock(mutex_);
  held_back_ = true;
}

void Journal::release(std::string_view lines) {
  {
    const std::lock_guard lock(mutex_);
    first_lines_ = lines;
    held_back_ = false;
  }
  changed_.notify_one();
}

std::vector<Journal::Line> Journal::put_in_order(Arrived arrived, Clock::time_point settled) {
  std::vector<Line> lines = std::exchange(unsettled_, {});
  for (std::vector<Exchange>& batch : arrived.exchanges) {
    // It is kept as long as any of it is, and has room for a burst.
    if (keep_ == Keep::last) batch.shrink_to_fit();
    const auto owner = std::make_shared<const std::vector<Exchange>>(std::move(batch));
    for (const Exchange& exchange : *owner)
      lines.push_back({exchange.ended(), {std::shared_ptr<const Exchange>(owner, &exchange), {}, 0}});
  }
  for (auto& [time, note] : arrived.notes) lines.push_back({time, {nullptr, std::move(note), 0}});
  const auto earlier = [](const Line& a, const Line& b) { return a.time < b.time; };
  if (!std::is_sorted(lines.begin(), lines.end(), earlier)) std::stable_sort(lines.begin(), lines.end(), earlier);
  const auto open = std::find_if(lines.begin(), lines.end(), [&](const Line& line) { return line.time > settled; });
  unsettled_.assign(std::make_move_iterator(open), std::make_move_iterator(lines.end()));
  lines.erase(open, lines.end());
  return lines;
}

void Journal::catch_up() {
  constexpr std::chrono::seconds kMoment{1};
  std::unique_lock lock(mutex_);
  if (held_back_) return;
  const std::uint64_t mine = ++asked_;
  changed_.notify_one();
  caught_up_.wait_for(lock, kMoment, [&] { return told_ >= mine; });
}

void Journal::write_out() {
  const auto written = out_.write(unwritten_, kLookAround);
  // On an error nobody reads any more; serving goes on.
  unwritten_.erase(0, written.error != 0 ? unwritten_.size() : written.bytes);
}

void Journal::run() {
  for (bool goes_on = true; goes_on;) {
    try {
      goes_on = step();
    } catch (const std::bad_alloc&) {
      const std::lock_guard lock(mutex_);
      dropped_ += std::exchange(in_hand_, 0);
    }
  }
}

Journal::Arrived Journal::wait_for_more() {
  Arrived arrived;
  std::unique_lock lock(mutex_);
  if (unsettled_.empty() && unwritten_.empty()) {
    sleeping_ = true;
    changed_.wait(lock, [this] {
      return finishing_ || asked_ > told_ || (!held_back_ && (!arrived_.is_empty() || !first_lines_.empty()));
    });
    sleeping_ = false;
  }
  // What is handed over meanwhile goes out in one piece, and in order.
  if (first_lines_.empty())
    changed_.wait_for(lock, kGather, [this] { return finishing_ || asked_ > told_ || arrived_count_ >= kBurst; });
  unwritten_ += first_lines_;
  first_lines_.clear();
  std::swap(arrived, arrived_);
  arrived_count_ = 0;
  is_last_ = finishing_;
  asked_for_ = asked_;
  return arrived;
}

std::string Journal::text_of(const std::vector<Line>& lines) {
  std::string text;
  std::size_t dropped = 0;
  for (const Line& line : lines) {
    if (unwritten_.size() + text.size() > kMostUnwritten) {
      ++dropped;
    } else if (line.kept.exchange) {
      append_log_line(text, *line.kept.exchange, colour_);
    } else {
      text += line.kept.note;
    }
  }
  constexpr std::size_t kBelowStatus = 14;
  if (is_standard_output_) text = text::wrap(text, machine::terminal_width(), kBelowStatus);
  const std::lock_guard lock(mutex_);
  dropped_ += dropped;
  // Once there is room again it is told.
  if (dropped_ > 0 && dropped == 0) {
    text.insert(0, fmt::format("({} lines could not be written)\n", dropped_));
    dropped_ = 0;
  }
  return text;
}

void Journal::keep(std::vector<Line> lines) {
  {
    const std::lock_guard lock(mutex_);
    for (Line& line : lines) {
      line.kept.bytes = bytes_of(line.kept);
      kept_bytes_ += line.kept.bytes;
      kept_.push_back(std::move(line.kept));
      ++next_number_;
    }
    while (kept_bytes_ > kMostKept && kept_.size() > 1) {
      kept_bytes_ -= kept_.front().bytes;
      kept_.pop_front();
    }
  }
  const std::lock_guard lock(subscribers_mutex_);
  for (const auto& [number, then] : subscribers_) then();
}

bool Journal::step() {
  Arrived arrived = wait_for_more();
  in_hand_ = unsettled_.size() + arrived.notes.size();
  for (const auto& batch : arrived.exchanges) in_hand_ += batch.size();
  const bool is_all = is_last_ || asked_for_ > told_;
  auto lines = put_in_order(std::move(arrived), is_all ? Clock::time_point::max() : Clock::now() - kOnTheWay);
  in_hand_ = lines.size();
  unwritten_ += text_of(lines);
  in_hand_ = 0;
  if (keep_ == Keep::last && !lines.empty()) keep(std::move(lines));
  if (!unwritten_.empty()) write_out();
  const std::lock_guard lock(mutex_);
  told_ = asked_for_;
  caught_up_.notify_all();
  const bool is_over = unsettled_.empty() && arrived_.is_empty() && (unwritten_.empty() || Clock::now() > give_up_);
  return !finishing_ || !is_over;
}

}  // namespace porter::server
