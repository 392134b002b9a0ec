// See recording.hpp.
#include "server/record/recording.hpp"

#include <algorithm>
#include <memory>
#include <mutex>
#include <new>
#include <optional>
#include <utility>

#include "server/record/exchange_store.hpp"

namespace porter::server {
namespace {

using exchange::Recorded;
using Clock = std::chrono::steady_clock;

constexpr std::string_view kHeadEnd = "\r\n\r\n";
/// A head that has no end is kept so far.
constexpr std::size_t kMostHead = 64 * 1024;
/// What is kept of one direction is long from here on.
constexpr std::size_t kLong = 64 * 1024;

}  // namespace

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
    auto detail = std::make_unique<ExchangeBlock::Detail>();
    detail->first_byte = first_byte_;
    const exchange::Wire& request = request_.wire;
    const exchange::Wire& response = response_.wire;
    for (LongBytes* const bytes : {&request_.long_bytes, &response_.long_bytes}) bytes->shrink();
    ExchangeBlock::Entry entry;
    entry.is_long = !request_.long_bytes.is_empty() || !response_.long_bytes.is_empty();
    entry.number = number_;
    entry.repeats = repeats_;
    entry.ends = {&ends_, head_wait_};
    if (site) entry.site = *site;
    entry.request = request.bytes;
    entry.request_length = request.length;
    entry.response = response.bytes.size();
    entry.response_length = response.length;
    shelf_.put(entry, [&](ExchangeBlock& block) {
      detail->facts = std::move(facts_);
      detail->slices = std::move(response_.wire.slices);
      detail->request = std::move(request_.long_bytes);
      detail->response = std::move(response_.long_bytes);
      const Exchange& facts = detail->facts;
      char* const text = block.put(entry, facts, detail);
      if (text == nullptr) {
        facts_ = std::move(detail->facts);
        response_.wire.slices = std::move(detail->slices);
        request_.long_bytes = std::move(detail->request);
        response_.long_bytes = std::move(detail->response);
        return false;
      }
      std::copy(response.bytes.begin(), response.bytes.end(), text);
      // From one moment to the next it is over.
      shelf_.open_.erase(this);
      return true;
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
      // "100 Continue" and its like come before the response itself.
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
  side.body += bytes.size();
  if (side.long_bytes.is_empty() && side.wire.bytes.size() + bytes.size() <= kLong) {
    side.wire.bytes += bytes;
    return;
  }
  if (side.long_bytes.is_empty()) {
    side.long_bytes = shelf_.store_.no_bytes();
    side.long_bytes.append(side.wire.bytes);
    side.wire.bytes = {};
  }
  side.long_bytes.append(bytes);
}

void Recording::keep(const FilePart& part, std::uint64_t sent) {
  exchange::Wire& wire = response_.wire;
  wire.length += sent;
  if (response_.is_full) return;
  // What goes on where the last ended is still the same part.
  if (!wire.slices.empty()) {
    exchange::FileSlice& last = wire.slices.back();
    if (last.at == response_.kept().size() && last.offset + last.length == part.offset) {
      last.length += sent;
      return;
    }
  }
  exchange::FileSlice slice = slice_of(part, sent);
  slice.at = response_.kept().size();
  wire.slices.push_back(std::move(slice));
}

void Recording::count() {
  const std::size_t now = sizeof *this + bytes_of(facts_) + request_.wire.bytes.capacity() +
                          request_.long_bytes.memory() + response_.wire.bytes.capacity() +
                          response_.long_bytes.memory() + response_.wire.slices.size() * sizeof(exchange::FileSlice);
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
    request_.is_full = response_.is_full = true;
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
      const std::string_view bytes(static_cast<const char*>(before.pieces[i].iov_base), sent);
      note_first_byte(bytes);
      keep(response_, bytes);
    }
    if (before.file.length > left.file.length) keep(before.file, before.file.length - left.file.length);
  });
}

void Recording::sent(std::string_view bytes) noexcept {
  note_safely([&] {
    note_first_byte(bytes);
    keep(response_, bytes);
  });
}

void Recording::note_first_byte(std::string_view bytes) {
  if (first_byte_.count() == 0 && !bytes.starts_with("HTTP/1.1 1")) first_byte_ = Clock::now() - facts_.begun;
}

void Recording::note(Exchange& exchange) noexcept {
  note_safely([&] {
    facts_ = facts_to_keep(exchange);
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
  take_ends(out, ends_);
  take_facts(out, facts_, with);
  out.request.length = request_.wire.length;
  out.response.length = response_.wire.length;
  out.response.slices = response_.wire.slices;
  if (with == RecordedWith::heads) return out;
  out.request.bytes = request_.kept();
  out.response.bytes = response_.kept();
  return out;
}

}  // namespace porter::server
