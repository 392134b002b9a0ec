// See body_reader.hpp.
#include "server/connection/body_reader.hpp"

#include <algorithm>

#include "server/response/writer.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kBodyBuffer = 64 * 1024;
constexpr std::uint64_t kMostDrained = 1024 * 1024;

}  // namespace

void BodyReader::begin(const http::RequestHead& head, const http::BodyFraming& framing, Bounds bounds) {
  framing_ = framing;
  bounds_ = bounds;
  is_left_alone_ = false;
  is_done_ = framing.kind != http::BodyFraming::Kind::chunked && framing.length == 0;
  const auto expect = head.field("Expect");
  continue_owed_ = !is_done_ && expect && http::same_name(*expect, "100-continue") && head.minor_version == 1;
}

asio::awaitable<BodyRead> BodyReader::read(std::string& out) {
  std::string_view piece;
  const BodyRead result = co_await next(piece);
  out += piece;
  co_return result;
}

asio::awaitable<BodyRead> BodyReader::next(std::string_view& piece) {
  piece = {};
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
    if (got == 0) co_return why_nothing_came();
    input_.add(got);
    transport_.received(got);
  }
  if (framing_.kind == http::BodyFraming::Kind::length) {
    piece = input_.unread().substr(0, framing_.length - read_);
    tell_tap(piece);
    input_.consume(piece.size());
    read_ += piece.size();
    is_done_ = read_ == framing_.length;
    co_return BodyRead::data;
  }
  unchunked_.clear();
  const std::size_t used = chunks_.read(input_.unread(), unchunked_);
  // What is wrong in them is worth seeing.
  const bool is_bad = chunks_.state() == http::ChunkReader::State::bad;
  tell_tap(is_bad ? input_.unread() : input_.unread().substr(0, used));
  input_.consume(used);
  read_ += unchunked_.size();
  piece = unchunked_;
  if (chunks_.state() == http::ChunkReader::State::bad) co_return BodyRead::malformed;
  if (read_ > bounds_.most) co_return BodyRead::too_large;
  is_done_ = chunks_.state() == http::ChunkReader::State::done;
  co_return BodyRead::data;
}

void BodyReader::tell_tap(std::string_view bytes) const {
  if (Tap* const tap = transport_.tap()) tap->received(bytes);
}

bool BodyReader::is_left() const {
  const bool is_unread = read_ == 0 || is_left_alone_;
  const bool is_much = framing_.length > 0 && framing_.length - read_ > kMostDrained;
  return !is_done_ && is_unread && (continue_owed_ || is_much);
}

asio::awaitable<bool> BodyReader::finish() {
  // A short rest is worth reading to keep the connection.
  if (continue_owed_ || (framing_.length > 0 && framing_.length - read_ > kMostDrained)) co_return is_done_;
  std::string_view dropped;
  std::uint64_t drained = 0;
  while (!is_done_ && drained <= kMostDrained) {
    const BodyRead result = co_await next(dropped);
    drained += dropped.size();
    if (result != BodyRead::data && result != BodyRead::end) break;
  }
  co_return is_done_;
}

}  // namespace porter::server
