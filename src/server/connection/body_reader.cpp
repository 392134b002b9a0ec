// See body_reader.hpp.
#include "server/connection/body_reader.hpp"

#include <algorithm>

#include "server/answer/writer.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kBodyBuffer = 64 * 1024;
constexpr std::uint64_t kMostDrained = 1024 * 1024;

}  // namespace

void BodyReader::begin(const http::RequestHead& head, const http::BodyFraming& framing, Bounds bounds) {
  framing_ = framing;
  bounds_ = bounds;
  is_done_ = framing.kind != http::BodyFraming::Kind::chunked && framing.length == 0;
  const auto expect = head.field("Expect");
  continue_owed_ = !is_done_ && expect && http::same_name(*expect, "100-continue") && head.minor_version == 1;
}

asio::awaitable<BodyRead> BodyReader::read(std::string& out) {
  if (is_done_) co_return BodyRead::end;
  if (continue_owed_ && input_.is_empty()) {
    continue_owed_ = false;
    const bool is_told = co_await writer_.tell_to_continue();
    if (!is_told) co_return BodyRead::gone;
  }
  if (input_.is_empty()) {
    input_.widen(kBodyBuffer);
    transport_.set_receive_deadline(coarse_now() + bounds_.pause);
    const auto [error, got] = co_await transport_.receive(input_.space(kBodyBuffer));
    transport_.set_receive_deadline(Clock::time_point::max());
    if (got == 0) co_return transport_.has_expired() ? BodyRead::too_slow : BodyRead::gone;
    input_.add(got);
  }
  if (framing_.kind == http::BodyFraming::Kind::length) {
    const std::string_view next = input_.unread();
    const auto take = static_cast<std::size_t>(std::min<std::uint64_t>(next.size(), framing_.length - read_));
    out.append(next.substr(0, take));
    tell_tap(next.substr(0, take));
    input_.consume(take);
    read_ += take;
    is_done_ = read_ == framing_.length;
    co_return BodyRead::data;
  }
  const std::size_t before = out.size();
  const std::size_t used = chunks_.read(input_.unread(), out);
  // What is wrong in them is worth seeing.
  const bool is_bad = chunks_.state() == http::ChunkReader::State::bad;
  tell_tap(is_bad ? input_.unread() : input_.unread().substr(0, used));
  input_.consume(used);
  read_ += out.size() - before;
  if (chunks_.state() == http::ChunkReader::State::bad) co_return BodyRead::malformed;
  if (read_ > bounds_.most) co_return BodyRead::too_large;
  is_done_ = chunks_.state() == http::ChunkReader::State::done;
  co_return BodyRead::data;
}

void BodyReader::tell_tap(std::string_view bytes) const {
  if (Tap* const tap = transport_.tap()) tap->received(bytes);
}

bool BodyReader::is_left() const {
  return !is_done_ && read_ == 0 && (continue_owed_ || framing_.length > kMostDrained);
}

asio::awaitable<bool> BodyReader::finish() {
  // A short rest is worth reading to keep the connection.
  if (continue_owed_ || (framing_.length > 0 && framing_.length - read_ > kMostDrained)) co_return is_done_;
  std::string dropped;
  std::uint64_t drained = 0;
  while (!is_done_ && drained <= kMostDrained) {
    dropped.clear();
    const BodyRead piece = co_await read(dropped);
    drained += dropped.size();
    if (piece != BodyRead::data && piece != BodyRead::end) break;
  }
  co_return is_done_;
}

}  // namespace porter::server
