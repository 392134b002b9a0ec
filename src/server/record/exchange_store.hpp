// The exchanges that are kept: what went over the wire, with the facts beside it.
//
// Each worker puts the exchanges that are over into blocks of its own, one behind the other, so that keeping one is two
// copies and no allocation. Full blocks go to the store, which lets go of the oldest when there is no more room for
// them. What is still in progress stands in a Recording.
#pragma once

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_set>
#include <utility>
#include <vector>

#include "core/exchange/recorded.hpp"
#include "core/settings/settings.hpp"
#include "server/connection/transport.hpp"
#include "server/record/exchange.hpp"
#include "server/record/exchange_block.hpp"
#include "server/record/recording.hpp"

namespace porter::server {

class ExchangeStore;

/// A worker's own part of the store. Its functions are called on the worker's thread.
class Shelf {
 public:
  explicit Shelf(ExchangeStore& store) : store_(store) {}
  Shelf(const Shelf&) = delete;
  Shelf& operator=(const Shelf&) = delete;

  /// Whether anything is kept at present.
  bool keeps() const;
  /// Keeps an exchange that was answered all at once: `request` is its head, `response` what was sent. Its number.
  std::uint64_t add(Exchange& exchange, const RecordedEnds& ends, std::string_view request,
                    const Outgoing& response) noexcept;
  /// Begins to record one that takes its time; null: there is no memory for it.
  std::unique_ptr<Recording> begin(const Exchange& exchange, const RecordedEnds& ends) noexcept;

 private:
  friend class ExchangeStore;
  friend class Recording;

  /// Has `put_in` put `entry` into a block that has room, with the mutex held; it says whether it did.
  template <typename PutIn>
  void put(const ExchangeBlock::Entry& entry, const PutIn& put_in);
  /// Gives the store the block that leaves.
  void hand_over();

  ExchangeStore& store_;
  std::mutex mutex_;
  std::shared_ptr<ExchangeBlock> block_;    // Guarded by mutex_, as are the next two.
  std::shared_ptr<ExchangeBlock> leaving_;  ///< On its way to the store.
  std::unordered_set<Recording*> open_;
};

class ExchangeStore {
 public:
  using Bounds = ExchangeKeeping;

  ExchangeStore();
  ~ExchangeStore();
  ExchangeStore(const ExchangeStore&) = delete;
  ExchangeStore& operator=(const ExchangeStore&) = delete;

  // From any thread.

  void set_bounds(const Bounds& bounds);
  Bounds bounds() const;
  /// A part for a worker, which lasts as long as the store.
  Shelf& add_shelf();

  struct Filter {
    std::optional<std::string> site;
    std::string status;  ///< "404", "4xx"; empty: any.
    std::string method;  ///< Empty: any.
    std::string text;  ///< Words of which each stands in the target or in what was sent either way, whatever the case.
    std::uint64_t before = UINT64_MAX;  ///< Only numbers below it.
    std::uint64_t after = 0;            ///< Only numbers above it.
  };
  struct Page {
    std::vector<exchange::Recorded> exchanges;  ///< In the order of their numbers.
    std::uint64_t last = 0;                     ///< The last number that was given.
    std::uint64_t gone = 0;                     ///< Of those up to this number some or all have gone, for want of room.
    std::uint64_t lost = 0;                     ///< How many could not be recorded, for lack of memory.
    bool has_more = false;                      ///< There are earlier ones that pass, or may.
  };
  /// The last `most` that pass; those in progress once they have lasted for 200 ms.
  Page list(const Filter& filter, std::size_t most, RecordedWith with = RecordedWith::heads);
  /// The numbers of the same, in ascending order.
  std::vector<std::uint64_t> numbers(const Filter& filter, std::size_t most);
  /// One with all there is; nullopt: it is not there, or not any more.
  std::optional<exchange::Recorded> find(std::uint64_t number);
  /// How many were recorded so far, and how many of these have gone for want of room.
  struct Counts {
    std::uint64_t recorded = 0;
    std::uint64_t evicted = 0;
  };
  Counts counts() const {
    return {last_number() - lost_.load(std::memory_order_relaxed), evicted_.load(std::memory_order_relaxed)};
  }
  std::uint64_t last_number() const { return next_.load(std::memory_order_relaxed) - 1; }
  /// Bytes that are kept.
  std::size_t bytes() const { return bytes_.load(std::memory_order_relaxed); }

  /// What comes from this port next, and from nowhere else, repeats `number`.
  void expect(std::uint16_t client_port, std::uint64_t number);
  /// The number of what has come from there; 0: nothing yet.
  std::uint64_t has_come(std::uint16_t client_port);
  void forget(std::uint16_t client_port);
  /// True once it is over.
  bool is_over(std::uint64_t number);

  /// Has `then` called for each exchange that begins and ends, on the worker's thread; null: nobody.
  struct News {
    enum class What { begun, ended } what;
    std::uint64_t number;
    const Exchange& exchange;
  };
  using Listener = std::function<void(const News&)>;
  void set_listener(std::shared_ptr<const Listener> then);

 private:
  friend class Shelf;
  friend class Recording;

  struct Place {
    std::shared_ptr<const ExchangeBlock> block;
    std::size_t count = 0;  ///< How many of its exchanges may be looked at.
  };
  std::vector<Place> places();
  /// Those in progress that are meant.
  template <typename ServerChoice>
  std::vector<exchange::Recorded> in_progress(RecordedWith with, const ServerChoice& is_meant);
  /// The last `most` that pass, each as `keep` makes it of what is recorded, by their numbers.
  template <typename Kept, typename Keep>
  std::map<std::uint64_t, Kept> last_passing(const Filter& filter, std::size_t most, RecordedWith with, bool& has_more,
                                             const Keep& keep);
  static bool passes(const Filter& filter, const exchange::Recorded& exchange);
  std::uint64_t take_number() { return next_.fetch_add(1, std::memory_order_relaxed); }
  std::uint64_t repeated_by(std::uint16_t client_port, std::uint64_t number);
  std::shared_ptr<ExchangeBlock> empty_block(std::size_t size);
  /// None, with memory that was used before, if there is some.
  LongBytes no_bytes();
  void add_sealed(std::shared_ptr<ExchangeBlock> block);
  void count(std::ptrdiff_t bytes);
  /// Lets the oldest go until there is room.
  void make_room();
  bool evict();
  void tell(News::What what, std::uint64_t number, const Exchange& exchange) noexcept;
  std::size_t block_size() const;
  /// Those in progress take up too much.
  bool is_crowded() const;

  std::atomic<bool> keep_{true};
  std::atomic<std::uint64_t> memory_{ExchangeKeeping{}.memory};
  std::atomic<std::uint64_t> body_{ExchangeKeeping{}.body};
  std::atomic<std::uint64_t> next_{1};
  std::atomic<std::size_t> bytes_{0};
  std::atomic<std::size_t> open_bytes_{0};
  std::atomic<std::uint64_t> lost_{0};
  std::atomic<std::uint64_t> evicted_{0};
  std::atomic<std::uint64_t> gone_{0};  ///< The highest number that was let go of.
  std::atomic<std::size_t> expected_count_{0};
  std::atomic<bool> is_listened_{false};

  std::mutex mutex_;
  std::vector<std::unique_ptr<Shelf>> shelves_;  // Guarded by mutex_, as are those below.
  std::deque<std::shared_ptr<ExchangeBlock>> sealed_;
  std::vector<std::unique_ptr<ExchangeBlock>> spare_;
  struct Expected {
    std::uint64_t repeats = 0;
    std::uint64_t number = 0;
  };
  std::map<std::uint16_t, Expected> expected_;
  std::shared_ptr<const Listener> listener_;
  bool is_ending_ = false;

  // The last to be locked: bytes are asked for with a shelf's mutex held, and given back with that of the store.
  std::mutex bytes_mutex_;
  std::vector<LongBytes> spare_bytes_;  // Guarded by bytes_mutex_.
};

template <typename PutIn>
void Shelf::put(const ExchangeBlock::Entry& entry, const PutIn& put_in) {
  const std::size_t usual = store_.block_size();
  const auto put_and_count = [&](ExchangeBlock& block) {
    const std::size_t before = block.detail_bytes();
    if (!put_in(block)) return false;
    if (block.detail_bytes() > before) store_.count(static_cast<std::ptrdiff_t>(block.detail_bytes() - before));
    return true;
  };
  // A large one has a block of its own.
  if (const std::size_t alone = ExchangeBlock::size_for(entry); entry.is_long || alone > usual / 4) {
    auto own = store_.empty_block(alone);
    {
      const std::lock_guard lock(mutex_);
      put_and_count(*own);
      leaving_ = own;
    }
    return hand_over();
  }
  bool is_in = false;
  {
    const std::lock_guard lock(mutex_);
    is_in = block_ && put_and_count(*block_);
  }
  if (is_in) return store_.make_room();
  auto fresh = store_.empty_block(usual);
  {
    const std::lock_guard lock(mutex_);
    put_and_count(*fresh);
    leaving_ = std::exchange(block_, std::move(fresh));
  }
  hand_over();
}

}  // namespace porter::server
