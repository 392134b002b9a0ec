// See exchange_store.hpp.
#include "server/record/exchange_store.hpp"

#include <algorithm>
#include <new>
#include <utility>

#include "core/text/text.hpp"
#include "server/response/writer.hpp"

namespace porter::server {
namespace {

using exchange::Recorded;
using Clock = std::chrono::steady_clock;

constexpr std::size_t kUsualBlock = 256 * 1024;
constexpr std::size_t kLeastBlock = 16 * 1024;
constexpr std::size_t kMostSpare = 2;
constexpr std::size_t kMostSpareBytes = 2 * 1024 * 1024;
/// From when on an exchange in progress is told of: most are over by then.
constexpr std::chrono::milliseconds kShownAfter{200};

bool holds(std::string_view text, std::string_view wanted) {
  const auto same = [](char a, char b) {
    const auto lower = [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + ('a' - 'A')) : c; };
    return lower(a) == lower(b);
  };
  return std::search(text.begin(), text.end(), wanted.begin(), wanted.end(), same) != text.end();
}

}  // namespace

bool Shelf::keeps() const { return store_.keep_.load(std::memory_order_relaxed); }

void Shelf::hand_over() {
  // Until the store has it, it is looked for here: whatever has been kept is found at any time.
  if (leaving_) store_.add_sealed(leaving_);
  std::shared_ptr<ExchangeBlock> handed;
  const std::lock_guard lock(mutex_);
  handed = std::exchange(leaving_, nullptr);
}

std::uint64_t Shelf::add(Exchange& exchange, const RecordedEnds& ends, std::string_view request,
                         const Outgoing& response) noexcept {
  const std::uint64_t number = store_.take_number();
  try {
    std::size_t sent = 0;
    for (const iovec& piece : response.pieces) sent += piece.iov_len;
    const std::size_t body = response.pieces[kBodyPiece].iov_len;
    const std::uint64_t left_out = body - std::min<std::uint64_t>(body, store_.body_.load(std::memory_order_relaxed));
    std::unique_ptr<ExchangeBlock::Detail> detail;
    const bool is_script = !exchange.runs.empty();
    if (is_script || response.file.length > 0) {
      detail = std::make_unique<ExchangeBlock::Detail>();
      detail->first_byte = exchange.duration;
    }
    if (is_script) detail->facts = facts_to_keep(exchange);
    if (response.file.length > 0) {
      detail->slices = {slice_of(response.file, response.file.length)};
      detail->slices[0].at = sent;
    }
    ExchangeBlock::Entry entry;
    entry.number = number;
    entry.repeats = store_.repeated_by(ends.ends->client_port, number);
    entry.ends = ends;
    if (exchange.site) entry.site = *exchange.site;
    entry.request = request;
    entry.request_length = request.size();
    entry.response = sent - static_cast<std::size_t>(left_out);
    entry.response_length = sent + response.file.length;
    entry.is_plain = !is_script;
    put(entry, [&](ExchangeBlock& block) {
      char* text = block.put(entry, exchange, detail);
      if (text == nullptr) return false;
      for (std::size_t i = 0; i < response.pieces.size(); ++i) {
        const auto* const bytes = static_cast<const char*>(response.pieces[i].iov_base);
        const std::size_t kept =
            response.pieces[i].iov_len - (i == kBodyPiece ? static_cast<std::size_t>(left_out) : 0);
        text = std::copy(bytes, bytes + kept, text);
      }
      return true;
    });
    store_.tell(ExchangeStore::News::What::begun, number, exchange);
    store_.tell(ExchangeStore::News::What::ended, number, exchange);
  } catch (const std::bad_alloc&) {
    store_.lost_.fetch_add(1, std::memory_order_relaxed);
  }
  return number;
}

std::unique_ptr<Recording> Shelf::begin(const Exchange& exchange, const RecordedEnds& ends) noexcept {
  const std::uint64_t number = store_.take_number();
  try {
    auto recording = std::make_unique<Recording>(*this, number, exchange, ends);
    store_.tell(ExchangeStore::News::What::begun, number, exchange);
    return recording;
  } catch (const std::bad_alloc&) {
    store_.lost_.fetch_add(1, std::memory_order_relaxed);
    return nullptr;
  }
}

ExchangeStore::ExchangeStore() {
  // What is given back to them is given back whether there is memory or not.
  spare_.reserve(kMostSpare);
  spare_bytes_.reserve(kMostSpare);
}

ExchangeStore::~ExchangeStore() {
  shelves_.clear();
  sealed_.clear();
  is_ending_ = true;
}

void ExchangeStore::set_bounds(const Bounds& bounds) {
  keep_.store(bounds.keep, std::memory_order_relaxed);
  body_.store(bounds.body, std::memory_order_relaxed);
  memory_.store(bounds.memory, std::memory_order_relaxed);
  make_room();
}

ExchangeStore::Bounds ExchangeStore::bounds() const {
  return {keep_.load(std::memory_order_relaxed), memory_.load(std::memory_order_relaxed),
          body_.load(std::memory_order_relaxed)};
}

Shelf& ExchangeStore::add_shelf() {
  const std::lock_guard lock(mutex_);
  return *shelves_.emplace_back(std::make_unique<Shelf>(*this));
}

std::size_t ExchangeStore::block_size() const {
  constexpr std::uint64_t kShare = 64;
  const std::uint64_t size = memory_.load(std::memory_order_relaxed) / kShare / kLeastBlock * kLeastBlock;
  return static_cast<std::size_t>(std::clamp<std::uint64_t>(size, kLeastBlock, kUsualBlock));
}

bool ExchangeStore::is_crowded() const {
  return open_bytes_.load(std::memory_order_relaxed) > memory_.load(std::memory_order_relaxed) / 2;
}

std::shared_ptr<ExchangeBlock> ExchangeStore::empty_block(std::size_t size) {
  // Memory that was used before is at hand; what is new has to be made by the system, page by page.
  const auto give_back = [this](ExchangeBlock* block) {
    std::unique_ptr<ExchangeBlock> own(block);
    block->clear([this](LongBytes bytes) {
      bytes.clear();
      const std::lock_guard lock(bytes_mutex_);
      if (bytes.memory() <= kMostSpareBytes && spare_bytes_.size() < kMostSpare)
        spare_bytes_.push_back(std::move(bytes));
    });
    const std::lock_guard lock(mutex_);
    if (!is_ending_ && own->size() == block_size() && spare_.size() < kMostSpare) spare_.push_back(std::move(own));
  };
  std::unique_ptr<ExchangeBlock> block;
  {
    const std::lock_guard lock(mutex_);
    if (!spare_.empty() && spare_.back()->size() == size) {
      block = std::move(spare_.back());
      spare_.pop_back();
    }
  }
  if (!block) block = std::make_unique<ExchangeBlock>(size);
  count(static_cast<std::ptrdiff_t>(size));
  return {block.release(), give_back};
}

LongBytes ExchangeStore::no_bytes() {
  LongBytes bytes;
  const std::lock_guard lock(bytes_mutex_);
  if (!spare_bytes_.empty()) {
    bytes = std::move(spare_bytes_.back());
    spare_bytes_.pop_back();
  }
  return bytes;
}

void ExchangeStore::add_sealed(std::shared_ptr<ExchangeBlock> block) {
  {
    const std::lock_guard lock(mutex_);
    sealed_.push_back(std::move(block));
  }
  make_room();
}

void ExchangeStore::count(std::ptrdiff_t bytes) {
  bytes_.fetch_add(static_cast<std::size_t>(bytes), std::memory_order_relaxed);
}

void ExchangeStore::make_room() {
  while (bytes_.load(std::memory_order_relaxed) > memory_.load(std::memory_order_relaxed) && evict()) continue;
}

bool ExchangeStore::evict() {
  std::shared_ptr<ExchangeBlock> oldest;  // Its memory goes once the lock is gone.
  const std::lock_guard lock(mutex_);
  // A worker that has had nothing to do for long may have the oldest of all.
  for (const auto& shelf : shelves_) {
    const std::lock_guard shelf_lock(shelf->mutex_);
    const bool is_older = shelf->block_ && std::all_of(sealed_.begin(), sealed_.end(), [&](const auto& block) {
                            return block->last() > shelf->block_->last();
                          });
    if (is_older) sealed_.push_back(std::exchange(shelf->block_, nullptr));
  }
  const auto found = std::min_element(sealed_.begin(), sealed_.end(),
                                      [](const auto& a, const auto& b) { return a->last() < b->last(); });
  if (found == sealed_.end()) return false;
  oldest = std::move(*found);
  sealed_.erase(found);
  count(-static_cast<std::ptrdiff_t>(oldest->size()));
  evicted_.fetch_add(oldest->count(), std::memory_order_relaxed);
  gone_.store(std::max(gone_.load(std::memory_order_relaxed), oldest->last()), std::memory_order_relaxed);
  return true;
}

std::vector<ExchangeStore::Place> ExchangeStore::places() {
  std::vector<Place> out;
  const std::lock_guard lock(mutex_);
  for (const auto& block : sealed_) out.push_back({block, block->count()});
  for (const auto& shelf : shelves_) {
    const std::lock_guard shelf_lock(shelf->mutex_);
    for (const auto& block : {shelf->leaving_, shelf->block_})
      if (block) out.push_back({block, block->count()});
  }
  return out;
}

template <typename ServerChoice>
std::vector<Recorded> ExchangeStore::in_progress(RecordedWith with, const ServerChoice& is_meant) {
  std::vector<Recorded> out;
  const std::lock_guard lock(mutex_);
  for (const auto& shelf : shelves_) {
    const std::lock_guard shelf_lock(shelf->mutex_);
    for (const Recording* const open : shelf->open_)
      if (is_meant(*open)) out.push_back(open->recorded(with));
  }
  return out;
}

bool ExchangeStore::passes(const Filter& filter, const Recorded& exchange) {
  if (filter.site && exchange.site != *filter.site) return false;
  if (!exchange::status_passes(exchange.status, filter.status)) return false;
  if (!filter.method.empty() && !holds(exchange.method, filter.method)) return false;
  for (const std::string_view word : text::parts_of(filter.text, ' '))
    if (!holds(exchange.request.bytes, word) && !holds(exchange.response.bytes, word)) return false;
  return true;
}

template <typename Kept, typename Keep>
std::map<std::uint64_t, Kept> ExchangeStore::last_passing(const Filter& filter, std::size_t most, RecordedWith with,
                                                          bool& has_more, const Keep& keep) {
  const auto is_meant = [&](std::uint64_t number) { return number > filter.after && number < filter.before; };
  struct Found {
    std::uint64_t number;
    const ExchangeBlock* block;
    std::size_t index;
  };
  // Those in progress first: one that ends meanwhile is found among the others then, and known by its number.
  std::map<std::uint64_t, Kept> passing;
  const auto begun_by = Clock::now() - kShownAfter;
  const auto is_shown = [&](const Recording& open) { return open.facts_.begun <= begun_by && is_meant(open.number_); };
  for (Recorded& open : in_progress(with, is_shown))
    if (passes(filter, open)) passing.emplace(open.number, keep(std::move(open)));
  const std::vector<Place> all = places();
  std::vector<Found> found;
  for (const Place& place : all)
    for (std::size_t i = 0; i < place.count; ++i) {
      const std::uint64_t number = place.block->number(i);
      if (is_meant(number)) found.push_back({number, place.block.get(), i});
    }
  // Of many only the last are looked at.
  std::sort(found.begin(), found.end(), [](const Found& a, const Found& b) { return a.number > b.number; });
  for (const Found& one : found) {
    if (passing.size() >= most && one.number < passing.begin()->first) {
      has_more = true;
      break;
    }
    Recorded recorded = one.block->recorded(one.index, with);
    if (!passes(filter, recorded)) continue;
    passing.insert_or_assign(one.number, keep(std::move(recorded)));
    while (passing.size() > most) {
      passing.erase(passing.begin());
      has_more = true;
    }
  }
  return passing;
}

ExchangeStore::Page ExchangeStore::list(const Filter& filter, std::size_t most, RecordedWith wanted) {
  Page page;
  const RecordedWith with = filter.text.empty() ? wanted : RecordedWith::all;
  auto passing = last_passing<Recorded>(filter, most, with, page.has_more, [wanted](Recorded recorded) {
    if (wanted == RecordedWith::heads) {
      recorded.request.bytes = {};
      recorded.response.bytes = {};
    }
    return recorded;
  });
  for (auto& [number, recorded] : passing) page.exchanges.push_back(std::move(recorded));
  page.last = last_number();
  page.gone = gone_.load(std::memory_order_relaxed);
  page.lost = lost_.load(std::memory_order_relaxed);
  return page;
}

std::vector<std::uint64_t> ExchangeStore::numbers(const Filter& filter, std::size_t most) {
  bool has_more = false;
  const RecordedWith with = filter.text.empty() ? RecordedWith::heads : RecordedWith::all;
  std::vector<std::uint64_t> out;
  for (const auto& [number, nothing] :
       last_passing<bool>(filter, most, with, has_more, [](const Recorded&) { return true; }))
    out.push_back(number);
  return out;
}

std::optional<Recorded> ExchangeStore::find(std::uint64_t number) {
  // Its bytes are copied while its worker waits, and nobody else's.
  for (Recorded& open : in_progress(RecordedWith::all, [&](const Recording& one) { return one.number_ == number; }))
    return std::move(open);
  for (const Place& place : places())
    for (std::size_t i = 0; place.block->last() >= number && i < place.count; ++i)
      if (place.block->number(i) == number) return place.block->recorded(i, RecordedWith::all);
  return std::nullopt;
}

bool ExchangeStore::is_over(std::uint64_t number) {
  const std::lock_guard lock(mutex_);
  return std::none_of(shelves_.begin(), shelves_.end(), [number](const auto& shelf) {
    const std::lock_guard shelf_lock(shelf->mutex_);
    return std::any_of(shelf->open_.begin(), shelf->open_.end(),
                       [number](const Recording* open) { return open->number_ == number; });
  });
}

void ExchangeStore::expect(std::uint16_t client_port, std::uint64_t number) {
  const std::lock_guard lock(mutex_);
  expected_[client_port] = {number, 0};
  expected_count_.store(expected_.size(), std::memory_order_relaxed);
}

std::uint64_t ExchangeStore::has_come(std::uint16_t client_port) {
  const std::lock_guard lock(mutex_);
  const auto found = expected_.find(client_port);
  return found == expected_.end() ? 0 : found->second.number;
}

void ExchangeStore::forget(std::uint16_t client_port) {
  const std::lock_guard lock(mutex_);
  expected_.erase(client_port);
  expected_count_.store(expected_.size(), std::memory_order_relaxed);
}

std::uint64_t ExchangeStore::repeated_by(std::uint16_t client_port, std::uint64_t number) {
  if (expected_count_.load(std::memory_order_relaxed) == 0) return 0;
  const std::lock_guard lock(mutex_);
  const auto found = expected_.find(client_port);
  if (found == expected_.end() || found->second.number != 0) return 0;
  found->second.number = number;
  return found->second.repeats;
}

void ExchangeStore::set_listener(std::shared_ptr<const Listener> then) {
  const std::lock_guard lock(mutex_);
  is_listened_.store(then != nullptr, std::memory_order_relaxed);
  listener_ = std::move(then);
}

void ExchangeStore::tell(News::What what, std::uint64_t number, const Exchange& exchange) noexcept {
  if (!is_listened_.load(std::memory_order_relaxed)) return;
  try {
    std::shared_ptr<const Listener> listener;
    {
      const std::lock_guard lock(mutex_);
      listener = listener_;
    }
    if (listener) (*listener)({what, number, exchange});
  } catch (const std::exception&) {
    // Who listens sees that a number is missing.
  }
}

}  // namespace porter::server
