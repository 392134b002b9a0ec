// See input.hpp.
#include "run/fastcgi/input.hpp"

#include <sys/socket.h>
#include <sys/uio.h>

#include <algorithm>
#include <cerrno>
#include <utility>

namespace porter::run {
namespace {

constexpr std::size_t kPiece = 64 * 1024 - 8;  ///< Bytes of input in one record.

/// Sets a flag for as long as it lasts, also where there is no memory to go on.
class While {
 public:
  explicit While(bool& flag) : flag_(flag) { flag_ = true; }
  ~While() { flag_ = false; }
  While(const While&) = delete;
  While& operator=(const While&) = delete;

 private:
  bool& flag_;
};

}  // namespace

void FastCgiInput::begin(std::shared_ptr<FastCgiPeer> peer, std::uint16_t number, std::size_t sent) {
  peer_ = std::move(peer);
  number_ = number;
  sent_ = sent;
  if (sent == 0) fastcgi::address(text_, number_, peer_->then());
}

bool FastCgiInput::send_now() {
  ssize_t sent = 0;
  do sent = ::send(peer_->connection().native_handle(), unsent().data(), unsent().size(), MSG_NOSIGNAL | MSG_DONTWAIT);
  while (sent < 0 && errno == EINTR);
  if (sent < 0 && errno != EAGAIN) return false;
  sent_ += static_cast<std::size_t>(std::max<ssize_t>(sent, 0));
  return true;
}

void FastCgiInput::flush_meanwhile(const std::weak_ptr<void>& owner) {
  if (unsent().empty() || !peer_) return;
  peer_->connection().async_wait(asio::posix::stream_descriptor::wait_write,
                                 [this, owner, to = peer_](const boost::system::error_code&) {
                                   const auto self = owner.lock();
                                   // Another peer may have been asked meanwhile.
                                   if (!self || peer_ != to) return;
                                   if (send_now()) return flush_meanwhile(owner);
                                   state_ = State::broken;
                                 });
}

asio::awaitable<bool> FastCgiInput::send(Parts parts) {
  const While writing(is_writing_);
  const auto peer = peer_;
  for (auto next = parts.begin(); next != parts.end();) {
    if (next->empty()) {
      ++next;
      continue;
    }
    if (!peer_ || state_ == State::broken) co_return false;
    std::array<iovec, std::tuple_size_v<Parts>> vectors;
    std::transform(next, parts.end(), vectors.begin(), [](std::string_view part) {
      return iovec{const_cast<char*>(part.data()), part.size()};
    });
    msghdr message{};
    message.msg_iov = vectors.data();
    message.msg_iovlen = static_cast<std::size_t>(parts.end() - next);
    const ssize_t sent = ::sendmsg(peer->connection().native_handle(), &message, MSG_NOSIGNAL | MSG_DONTWAIT);
    const int error = sent < 0 ? errno : 0;
    if (error == EAGAIN) co_await peer->connection().async_wait(asio::posix::stream_descriptor::wait_write, kAwait);
    if (error != 0 && error != EAGAIN && error != EINTR) co_return false;
    for (std::size_t left = static_cast<std::size_t>(std::max<ssize_t>(sent, 0)); left > 0; ++next) {
      const std::size_t of_this = std::min(left, next->size());
      next->remove_prefix(of_this);
      left -= of_this;
      if (!next->empty()) break;
    }
  }
  co_return true;
}

asio::awaitable<bool> FastCgiInput::write(std::string_view data) {
  if (!peer_ || state_ != State::open) co_return false;
  bool is_sent = true;
  if (!unsent().empty()) {
    const Parts rest{unsent()};
    is_sent = co_await send(rest);
    sent_ = text_.size();
  }
  while (is_sent && !data.empty()) {
    // What is read at once of a body may be more than a record holds.
    std::array<std::array<char, fastcgi::kHeaderSize>, 2> headers;
    Parts parts;
    for (std::size_t i = 0; i < headers.size() && !data.empty(); ++i) {
      const std::string_view piece = data.substr(0, kPiece);
      data.remove_prefix(piece.size());
      const fastcgi::Header header{fastcgi::RecordType::input, number_, static_cast<std::uint16_t>(piece.size())};
      headers[i] = header.bytes();
      parts[2 * i] = {headers[i].data(), headers[i].size()};
      parts[2 * i + 1] = piece;
    }
    is_sent = co_await send(parts);
  }
  if (!is_sent) state_ = State::broken;
  co_return is_sent;
}

void FastCgiInput::close(const std::weak_ptr<void>& owner) {
  if (state_ != State::open) return;
  // Whoever closes it while something is on its way does not mean the rest to arrive.
  if (!peer_ || is_writing_) return break_off();
  state_ = State::closed;
  fastcgi::append_end_of_stream(text_, fastcgi::RecordType::input, number_);
  // Should nobody be there any more, reading tells of it.
  send_now();
  flush_meanwhile(owner);
}

void FastCgiInput::break_off() {
  if (state_ == State::open || is_writing_) state_ = State::broken;
  const auto peer = std::exchange(peer_, nullptr);
  boost::system::error_code ignored;
  if (peer && is_writing_) peer->connection().cancel(ignored);
}

}  // namespace porter::run
