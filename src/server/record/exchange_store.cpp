// See exchange_store.hpp.
#include "server/record/exchange_store.hpp"

#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <climits>
#include <new>
#include <utility>

#include "core/text/text.hpp"
#include "server/answer/writer.hpp"
#include "server/record/log_line.hpp"

namespace porter::server {
namespace {

using exchange::Recorded;
using Clock = std::chrono::steady_clock;

constexpr std::size_t kUsualBlock = 256 * 1024;
constexpr std::size_t kLeastBlock = 16 * 1024;
constexpr std::size_t kMostSpare = 2;
/// From when on an exchange in progress is told of: most are over by then.
constexpr std::chrono::milliseconds kShownAfter{200};
constexpr std::string_view kHeadEnd = "\r\n\r\n";
/// A head that has no end is kept so far.
constexpr std::size_t kMostHead = 64 * 1024;

std::string_view bytes_of(const iovec& piece, std::size_t count) {
  return {static_cast<const char*>(piece.iov_base), count};
}

/// The file that `part` is a part of, as it is now.
exchange::FileSlice slice_of(const FilePart& part, std::uint64_t length) {
  exchange::FileSlice slice;
  std::array<char, PATH_MAX> path;
  const std::string link = "/proc/self/fd/" + std::to_string(part.file);
  const ssize_t got = ::readlink(link.c_str(), path.data(), path.size());
  if (got > 0) slice.file.assign(path.data(), static_cast<std::size_t>(got));
  struct stat info {};
  if (::fstat(part.file, &info) == 0) {
    slice.size = static_cast<std::uint64_t>(info.st_size);
    slice.modified = info.st_mtim.tv_sec * 1'000'000'000LL + info.st_mtim.tv_nsec;
    slice.device = info.st_dev;
    slice.inode = info.st_ino;
  }
  slice.offset = part.offset;
  slice.length = length;
  return slice;
}

std::string_view up_to(std::string_view text, std::string_view ends) {
  return text.substr(0, text.find_first_of(ends));
}

/// The words in `text`, each of which has a zero behind it.
std::vector<std::string> words_of(std::string_view text) {
  std::vector<std::string> out;
  for (std::size_t end = 0; (end = text.find('\0')) != text.npos; text.remove_prefix(end + 1))
    out.emplace_back(text.substr(0, end));
  return out;
}

exchange::Run run_of(const RunFacts& facts) {
  exchange::Run run;
  run.runner = facts.runner;
  run.script = facts.script;
  if (const auto& order = facts.order) {
    run.command = words_of(order->command);
    run.environment = words_of(order->environment);
    run.folder = order->folder;
  }
  run.redirected_to = facts.redirected_to;
  run.exit_status = facts.exit_status;
  run.signal = facts.signal;
  run.turn_wait = facts.turn_wait;
  run.start = facts.start;
  run.duration = facts.duration;
  run.processor_time = facts.processor_time;
  run.peak_memory_kib = static_cast<std::uint64_t>(facts.peak_memory_kib);
  run.error_lines = facts.error_lines;
  run.more_error_lines = facts.more_error_lines;
  return run;
}

void take_facts(Recorded& out, const Exchange& facts, RecordedWith with) {
  out.method = facts.method;
  out.target = facts.target;
  out.site = facts.site ? *facts.site : "";
  out.status = facts.status;
  out.body_bytes = facts.body_bytes;
  out.kind = kind_of(facts.by);
  out.answered_by = answered_by(facts);
  out.findings = facts.findings;
  if (with == RecordedWith::heads) return;
  for (const RunFacts& run : facts.runs) out.runs.push_back(run_of(run));
  out.trail = facts.trail;
}

bool holds(std::string_view text, std::string_view wanted) {
  const auto same = [](char a, char b) {
    const auto lower = [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + ('a' - 'A')) : c; };
    return lower(a) == lower(b);
  };
  return std::search(text.begin(), text.end(), wanted.begin(), wanted.end(), same) != text.end();
}

}  // namespace

std::string_view kind_of(const AnsweredBy& by) {
  static constexpr std::string_view kKinds[] = {"",        "file",     "listing", "start-page",
                                                "options", "redirect", "script",  "problem"};
  static_assert(std::size(kKinds) == std::variant_size_v<AnsweredBy>);
  return kKinds[by.index()];
}

/// What of an exchange is not the same for all.
struct ExchangeBlock::Detail {
  Exchange facts;
  std::vector<exchange::FileSlice> slices;
  std::chrono::nanoseconds first_byte{0};

  std::size_t size() const {
    std::size_t size = sizeof *this + bytes_of(facts);
    for (const exchange::FileSlice& slice : slices) size += sizeof slice + slice.file.capacity();
    return size;
  }
};

// It lies in the block's memory, so it is destroyed by the block: the detail alone needs it.
struct ExchangeBlock::Kept {
  std::uint64_t number;
  std::uint64_t repeats;
  std::chrono::system_clock::time_point time;
  std::chrono::nanoseconds duration;
  std::chrono::nanoseconds head_wait;
  std::uint64_t body_bytes;
  std::uint64_t request_length;  ///< All that went.
  std::uint64_t answer_length;
  Detail* detail;  ///< Null: a file that lay ready. Its own.
  // Of the text, one behind the other.
  std::uint32_t begin;
  std::uint32_t request;
  std::uint32_t answer;
  std::uint16_t client_port;
  std::uint16_t server_port;
  std::uint16_t status;
  std::uint16_t site;
  std::uint8_t client;
  std::uint8_t server;

  void set_ends(const Ends& ends) {
    client_port = ends.client_port;
    server_port = ends.server_port;
    client = static_cast<std::uint8_t>(ends.client_address.size());
    server = static_cast<std::uint8_t>(ends.server_address.size());
  }
  Recorded recorded(const char* memory, RecordedWith with) const;
};

Recorded ExchangeBlock::Kept::recorded(const char* memory, RecordedWith with) const {
  Recorded out;
  const char* at = memory + begin;
  const auto next = [&at](std::size_t size) {
    const std::string_view text(at, size);
    at += size;
    return text;
  };
  out.number = number;
  out.repeats = repeats;
  out.time = time;
  out.duration = out.first_byte = duration;
  out.head_wait = head_wait;
  out.client = next(client);
  out.server = next(server);
  out.site = next(site);
  out.client_port = client_port;
  out.server_port = server_port;
  const std::string_view request_bytes = next(request);
  const std::string_view answer_bytes = next(answer);
  out.request.length = request_length;
  out.answer.length = answer_length;
  if (detail != nullptr) {
    take_facts(out, detail->facts, with);
    out.first_byte = detail->first_byte;
    out.answer.slices = detail->slices;
  }
  if (detail == nullptr || detail->facts.method.empty()) {
    out.method = up_to(request_bytes, " \r\n");
    out.target = up_to(request_bytes.substr(std::min(request_bytes.size(), out.method.size() + 1)), " \r\n");
    out.status = status;
    out.body_bytes = body_bytes;
    out.kind = out.answered_by = "file";
    if (with == RecordedWith::all)
      out.trail = {"The answer lay ready in memory since an earlier request, and the file had not changed."};
  }
  if (with == RecordedWith::heads) return out;
  out.request.bytes = request_bytes;
  out.answer.bytes = answer_bytes;
  return out;
}

ExchangeBlock::ExchangeBlock(std::size_t size) : size_(size) {
  void* const memory = ::mmap(nullptr, size, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  if (memory == MAP_FAILED) throw std::bad_alloc();
  memory_ = static_cast<char*>(memory);
}

ExchangeBlock::~ExchangeBlock() {
  clear();
  ::munmap(memory_, size_);
}

void ExchangeBlock::clear() {
  for (std::size_t i = 0; detail_bytes_ > 0 && i < count_; ++i) delete at(i).detail;
  used_ = count_ = detail_bytes_ = 0;
  last_ = 0;
}

const ExchangeBlock::Kept& ExchangeBlock::at(std::size_t index) const {
  return reinterpret_cast<const Kept*>(memory_ + size_)[-static_cast<std::ptrdiff_t>(index) - 1];
}

ExchangeBlock::Kept* ExchangeBlock::add(std::size_t bytes) {
  if (used_ + bytes + (count_ + 1) * sizeof(Kept) > size_) return nullptr;
  Kept* const kept = reinterpret_cast<Kept*>(memory_ + size_) - static_cast<std::ptrdiff_t>(count_) - 1;
  new (kept) Kept{};
  kept->begin = static_cast<std::uint32_t>(used_);
  used_ += bytes;
  ++count_;
  // The next is mostly as large, and its place will have come nearer by then.
  constexpr std::size_t kLine = 64;
  constexpr std::size_t kMostNear = 2048;
  const std::size_t end = std::min(used_ + std::min(bytes, kMostNear), size_);
  for (std::size_t at = used_; at < end; at += kLine) __builtin_prefetch(memory_ + at, 1);
  return kept;
}

bool Shelf::keeps() const { return store_.keep_.load(std::memory_order_relaxed); }

template <typename Fill>
void Shelf::put(std::size_t bytes, const Fill& fill) {
  const auto put_in = [&](ExchangeBlock& block) {
    ExchangeBlock::Kept* const kept = block.add(bytes);
    if (kept == nullptr) return false;
    fill(block.memory() + kept->begin, *kept);
    const std::size_t detail = kept->detail != nullptr ? kept->detail->size() : 0;
    block.note(kept->number, detail);
    if (detail > 0) store_.count(static_cast<std::ptrdiff_t>(detail));
    return true;
  };
  const std::size_t usual = store_.block_size();
  const std::size_t needed = bytes + sizeof(ExchangeBlock::Kept);
  if (needed > usual / 4) {
    // A large one has a block of its own.
    constexpr std::size_t kMemoryPage = 4096;
    auto own = store_.empty_block((needed + kMemoryPage - 1) / kMemoryPage * kMemoryPage);
    {
      const std::lock_guard lock(mutex_);
      put_in(*own);
      leaving_ = own;
    }
    return hand_over();
  }
  bool is_in = false;
  {
    const std::lock_guard lock(mutex_);
    is_in = block_ && put_in(*block_);
  }
  if (is_in) return store_.make_room();
  auto fresh = store_.empty_block(usual);
  {
    const std::lock_guard lock(mutex_);
    put_in(*fresh);
    leaving_ = std::exchange(block_, std::move(fresh));
  }
  hand_over();
}

void Shelf::hand_over() {
  // Until the store has it, it is looked for here: whatever has been kept is found at any time.
  if (leaving_) store_.add_sealed(leaving_);
  std::shared_ptr<ExchangeBlock> handed;
  const std::lock_guard lock(mutex_);
  handed = std::exchange(leaving_, nullptr);
}

std::uint64_t Shelf::add(const Exchange& exchange, const RecordedEnds& ends, std::string_view request,
                         const Outgoing& answer) noexcept {
  const std::uint64_t number = store_.take_number();
  try {
    std::size_t sent = 0;
    for (const iovec& piece : answer.pieces) sent += piece.iov_len;
    const std::size_t body = answer.pieces[kBodyPiece].iov_len;
    const std::uint64_t left_out = body - std::min<std::uint64_t>(body, store_.body_.load(std::memory_order_relaxed));
    std::unique_ptr<ExchangeBlock::Detail> detail;
    if (answer.file.length > 0) {
      detail = std::make_unique<ExchangeBlock::Detail>();
      detail->slices = {slice_of(answer.file, answer.file.length)};
      detail->slices[0].at = sent;
      detail->first_byte = exchange.duration;
    }
    const std::string_view site = exchange.site ? std::string_view(*exchange.site) : std::string_view();
    const Ends& both = *ends.ends;
    const std::uint64_t repeats = store_.repeated_by(both.client_port, number);
    const std::size_t size = both.client_address.size() + both.server_address.size() + site.size() + request.size() +
                             sent - static_cast<std::size_t>(left_out);
    put(size, [&](char* text, ExchangeBlock::Kept& kept) {
      const auto append = [&text](std::string_view part) { text = std::copy(part.begin(), part.end(), text); };
      kept.number = number;
      kept.repeats = repeats;
      kept.time = exchange.time;
      kept.duration = exchange.duration;
      kept.head_wait = ends.head_wait;
      kept.body_bytes = exchange.body_bytes;
      kept.status = static_cast<std::uint16_t>(exchange.status);
      kept.set_ends(both);
      kept.site = static_cast<std::uint16_t>(site.size());
      kept.request = static_cast<std::uint32_t>(request.size());
      kept.request_length = request.size();
      kept.answer = static_cast<std::uint32_t>(sent - left_out);
      kept.answer_length = sent + answer.file.length;
      kept.detail = detail.release();
      append(both.client_address);
      append(both.server_address);
      append(site);
      append(request);
      std::uint64_t dropped = left_out;
      for (std::size_t i = 0; i < answer.pieces.size(); ++i) {
        const std::size_t cut = i == kBodyPiece ? static_cast<std::size_t>(std::exchange(dropped, 0)) : 0;
        append(bytes_of(answer.pieces[i], answer.pieces[i].iov_len - cut));
      }
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

Recording::Recording(Shelf& shelf, std::uint64_t number, const Exchange& exchange, const RecordedEnds& ends)
    : shelf_(shelf),
      number_(number),
      ends_(*ends.ends),
      head_wait_(ends.head_wait),
      body_limit_(shelf.store_.body_.load(std::memory_order_relaxed)),
      facts_(copy_of(exchange)) {
  repeats_ = shelf.store_.repeated_by(ends_.client_port, number);
  const std::lock_guard lock(shelf_.mutex_);
  shelf_.open_.insert(this);
}

Recording::~Recording() {
  ExchangeStore& store = shelf_.store_;
  try {
    if (!is_noted_) {
      const std::lock_guard lock(shelf_.mutex_);
      facts_.duration = Clock::now() - facts_.begun;
    }
    // Who hears of its end looks for it among those that are over.
    std::optional<Exchange> told;
    if (store.is_listened_.load(std::memory_order_relaxed)) told = copy_of(facts_);
    const std::shared_ptr<const std::string> site = facts_.site;
    const std::size_t site_size = site ? site->size() : 0;
    auto detail = std::make_unique<ExchangeBlock::Detail>();
    detail->first_byte = first_byte_;
    const std::size_t size = ends_.client_address.size() + ends_.server_address.size() + site_size +
                             request_.wire.bytes.size() + answer_.wire.bytes.size();
    shelf_.put(size, [&](char* text, ExchangeBlock::Kept& kept) {
      // From one moment to the next it is over.
      shelf_.open_.erase(this);
      detail->facts = std::move(facts_);
      detail->slices = std::move(answer_.wire.slices);
      const Exchange& facts = detail->facts;
      kept.number = number_;
      kept.repeats = repeats_;
      kept.time = facts.time;
      kept.duration = facts.duration;
      kept.head_wait = head_wait_;
      kept.set_ends(ends_);
      kept.site = static_cast<std::uint16_t>(site_size);
      kept.request = static_cast<std::uint32_t>(request_.wire.bytes.size());
      kept.request_length = request_.wire.length;
      kept.answer = static_cast<std::uint32_t>(answer_.wire.bytes.size());
      kept.answer_length = answer_.wire.length;
      for (const std::string_view part :
           {std::string_view(ends_.client_address), std::string_view(ends_.server_address),
            site ? std::string_view(*site) : std::string_view(), std::string_view(request_.wire.bytes),
            std::string_view(answer_.wire.bytes)}) {
        text = std::copy(part.begin(), part.end(), text);
      }
      kept.detail = detail.release();
    });
    if (told) store.tell(ExchangeStore::News::What::ended, number_, *told);
  } catch (const std::exception&) {
    store.lost_.fetch_add(1, std::memory_order_relaxed);
  }
  {
    const std::lock_guard lock(shelf_.mutex_);
    shelf_.open_.erase(this);
  }
  store.open_bytes_.fetch_sub(counted_, std::memory_order_relaxed);
  store.count(-static_cast<std::ptrdiff_t>(counted_));
}

void Recording::keep(Side& side, std::string_view bytes) {
  exchange::Wire& wire = side.wire;
  wire.length += bytes.size();
  // What is behind a gap would stand in the wrong place.
  if (side.is_full) return;
  if (!side.has_head) {
    const std::size_t before = wire.bytes.size();
    wire.bytes += bytes;
    for (std::size_t from = before - std::min(before, side.head_from + kHeadEnd.size() - 1);;) {
      const std::size_t end = wire.bytes.find(kHeadEnd, std::max(from, side.head_from));
      if (end == wire.bytes.npos) break;
      from = end + kHeadEnd.size();
      // "100 Continue" and its like come before the answer itself.
      const bool is_interim = std::string_view(wire.bytes).substr(side.head_from).starts_with("HTTP/1.1 1");
      side.head_from = from;
      if (is_interim) continue;
      side.has_head = true;
      break;
    }
    if (!side.has_head) {
      side.is_full = wire.bytes.size() > kMostHead + body_limit_;
      return;
    }
    const std::string body = wire.bytes.substr(side.head_from);
    wire.bytes.resize(side.head_from);
    append_body(side, body);
    return;
  }
  append_body(side, bytes);
}

void Recording::append_body(Side& side, std::string_view bytes) {
  const std::uint64_t room = body_limit_ - std::min(body_limit_, side.body);
  const bool is_crowded = shelf_.store_.is_crowded();
  side.is_full = is_crowded || bytes.size() > room;
  bytes = bytes.substr(0, is_crowded ? 0 : static_cast<std::size_t>(std::min<std::uint64_t>(room, bytes.size())));
  side.wire.bytes += bytes;
  side.body += bytes.size();
}

void Recording::keep(const FilePart& part, std::uint64_t sent) {
  exchange::Wire& wire = answer_.wire;
  wire.length += sent;
  if (answer_.is_full) return;
  // What goes on where the last ended is still the same part.
  if (!wire.slices.empty()) {
    exchange::FileSlice& last = wire.slices.back();
    if (last.at == wire.bytes.size() && last.offset + last.length == part.offset) {
      last.length += sent;
      return;
    }
  }
  exchange::FileSlice slice = slice_of(part, sent);
  slice.at = wire.bytes.size();
  wire.slices.push_back(std::move(slice));
}

void Recording::count() {
  const std::size_t now = sizeof *this + bytes_of(facts_) + request_.wire.bytes.capacity() +
                          answer_.wire.bytes.capacity() + answer_.wire.slices.size() * sizeof(exchange::FileSlice);
  const auto more = static_cast<std::ptrdiff_t>(now) - static_cast<std::ptrdiff_t>(counted_);
  counted_ = now;
  shelf_.store_.open_bytes_.fetch_add(static_cast<std::size_t>(more), std::memory_order_relaxed);
  shelf_.store_.count(more);
}

template <typename Note>
void Recording::note_safely(Note note) noexcept {
  try {
    {
      const std::lock_guard lock(shelf_.mutex_);
      note();
    }
    count();
  } catch (const std::bad_alloc&) {
    // What is there already is kept; what follows would stand in the wrong place.
    request_.is_full = answer_.is_full = true;
  }
}

void Recording::received(std::string_view bytes) noexcept {
  note_safely([&] { keep(request_, bytes); });
}

void Recording::sent(const Outgoing& before, const Outgoing& left) noexcept {
  note_safely([&] {
    for (std::size_t i = 0; i < before.pieces.size(); ++i) {
      const std::size_t sent = before.pieces[i].iov_len - left.pieces[i].iov_len;
      if (sent == 0) continue;
      const std::string_view bytes = bytes_of(before.pieces[i], sent);
      note_first_byte(bytes);
      keep(answer_, bytes);
    }
    if (before.file.length > left.file.length) keep(before.file, before.file.length - left.file.length);
  });
}

void Recording::sent(std::string_view bytes) noexcept {
  note_safely([&] {
    note_first_byte(bytes);
    keep(answer_, bytes);
  });
}

void Recording::note_first_byte(std::string_view bytes) {
  if (first_byte_.count() == 0 && !bytes.starts_with("HTTP/1.1 1")) first_byte_ = Clock::now() - facts_.begun;
}

void Recording::note(Exchange& exchange) noexcept {
  note_safely([&] {
    // What nobody else tells of changes hands.
    std::vector<std::string> trail = std::exchange(exchange.trail, {});
    facts_ = copy_of(exchange);
    facts_.trail = std::move(trail);
    for (RunFacts& run : exchange.runs) run.order.reset();
    is_noted_ = true;
  });
}

Recorded Recording::recorded(RecordedWith with) const {
  Recorded out;
  out.number = number_;
  out.repeats = repeats_;
  out.is_in_progress = true;
  out.time = facts_.time;
  out.head_wait = head_wait_;
  out.first_byte = first_byte_;
  out.duration = is_noted_ ? facts_.duration : Clock::now() - facts_.begun;
  out.client = ends_.client_address;
  out.client_port = ends_.client_port;
  out.server = ends_.server_address;
  out.server_port = ends_.server_port;
  take_facts(out, facts_, with);
  out.request.length = request_.wire.length;
  out.answer.length = answer_.wire.length;
  out.answer.slices = answer_.wire.slices;
  if (with == RecordedWith::heads) return out;
  out.request.bytes = request_.wire.bytes;
  out.answer.bytes = answer_.wire.bytes;
  return out;
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
    block->clear();
    std::unique_ptr<ExchangeBlock> own(block);
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

template <typename Meant>
std::vector<Recorded> ExchangeStore::in_progress(RecordedWith with, const Meant& is_meant) {
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
    if (!holds(exchange.request.bytes, word) && !holds(exchange.answer.bytes, word)) return false;
  return true;
}

ExchangeStore::Page ExchangeStore::list(const Filter& filter, std::size_t most) {
  // The bytes are needed for words alone, and for those that are told of in the end nobody needs them.
  const RecordedWith with = filter.text.empty() ? RecordedWith::heads : RecordedWith::all;
  const auto is_meant = [&](std::uint64_t number) { return number > filter.after && number < filter.before; };
  struct Found {
    std::uint64_t number;
    const ExchangeBlock::Kept* kept;
    const char* memory;
  };
  Page page;
  // Those in progress first: one that ends meanwhile is found among the others then, and known by its number.
  std::map<std::uint64_t, Recorded> passing;
  const auto begun_by = Clock::now() - kShownAfter;
  const auto is_shown = [&](const Recording& open) { return open.facts_.begun <= begun_by && is_meant(open.number_); };
  for (Recorded& open : in_progress(with, is_shown))
    if (passes(filter, open)) passing.emplace(open.number, std::move(open));
  const std::vector<Place> all = places();
  std::vector<Found> found;
  for (const Place& place : all)
    for (std::size_t i = 0; i < place.count; ++i) {
      const ExchangeBlock::Kept& kept = place.block->at(i);
      if (is_meant(kept.number)) found.push_back({kept.number, &kept, place.block->memory()});
    }
  // Of many only the last are looked at.
  std::sort(found.begin(), found.end(), [](const Found& a, const Found& b) { return a.number > b.number; });
  for (const Found& one : found) {
    if (passing.size() >= most && one.number < passing.begin()->first) {
      page.has_more = true;
      break;
    }
    Recorded recorded = one.kept->recorded(one.memory, with);
    if (!passes(filter, recorded)) continue;
    passing.insert_or_assign(one.number, std::move(recorded));
    while (passing.size() > most) {
      passing.erase(passing.begin());
      page.has_more = true;
    }
  }
  for (auto& [number, recorded] : passing) {
    recorded.request.bytes.clear();
    recorded.answer.bytes.clear();
    page.exchanges.push_back(std::move(recorded));
  }
  page.last = last_number();
  page.gone = gone_.load(std::memory_order_relaxed);
  page.lost = lost_.load(std::memory_order_relaxed);
  return page;
}

std::optional<Recorded> ExchangeStore::find(std::uint64_t number) {
  // Its bytes are copied while its worker waits, and nobody else's.
  for (Recorded& open : in_progress(RecordedWith::all, [&](const Recording& one) { return one.number_ == number; }))
    return std::move(open);
  for (const Place& place : places())
    for (std::size_t i = 0; i < place.count; ++i)
      if (place.block->at(i).number == number)
        return place.block->at(i).recorded(place.block->memory(), RecordedWith::all);
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
