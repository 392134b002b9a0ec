// Sending, receiving and closing. See transport.hpp.
#include "server/connection/transport.hpp"

#include <arpa/inet.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/sendfile.h>
#include <sys/socket.h>
#include <time.h>

#include <algorithm>
#include <boost/asio/buffer.hpp>
#include <cerrno>

#include "run/event.hpp"

namespace porter::server {
namespace {

constexpr std::chrono::seconds kLingerTime{2};
/// A client that reads as fast as this sends would keep the worker from all others.
constexpr std::uint64_t kMostOfFileAtOnce = 4 * 1024 * 1024;

/// One end of a socket.
struct End {
  std::string address;
  std::uint16_t port = 0;
  bool is_loopback = false;
};

End end_of(const sockaddr_storage& storage) {
  std::array<char, INET6_ADDRSTRLEN> text{};
  if (storage.ss_family == AF_INET) {
    const auto& v4 = reinterpret_cast<const sockaddr_in&>(storage);
    ::inet_ntop(AF_INET, &v4.sin_addr, text.data(), text.size());
    return {text.data(), ntohs(v4.sin_port), ntohl(v4.sin_addr.s_addr) >> 24 == 127};
  }
  if (storage.ss_family != AF_INET6) return {};
  const auto& v6 = reinterpret_cast<const sockaddr_in6&>(storage);
  const std::uint16_t port = ntohs(v6.sin6_port);
  if (IN6_IS_ADDR_V4MAPPED(&v6.sin6_addr)) {
    const auto* const v4 = &v6.sin6_addr.s6_addr[12];
    ::inet_ntop(AF_INET, v4, text.data(), text.size());
    return {text.data(), port, *v4 == 127};
  }
  ::inet_ntop(AF_INET6, &v6.sin6_addr, text.data(), text.size());
  return {text.data(), port, IN6_IS_ADDR_LOOPBACK(&v6.sin6_addr)};
}

}  // namespace

Clock::time_point coarse_now() {
  timespec now{};
  ::clock_gettime(CLOCK_MONOTONIC_COARSE, &now);
  return Clock::time_point(std::chrono::seconds(now.tv_sec) + std::chrono::nanoseconds(now.tv_nsec));
}

Transport::Transport(Socket socket) : socket_(std::move(socket)) {
  boost::system::error_code ignored;
  socket_.non_blocking(true, ignored);
  const int on = 1;  // Over a Unix socket it means nothing, and is refused.
  ::setsockopt(socket_.native_handle(), IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
}

Ends ends_of(int socket) {
  const auto ask = [socket](auto* get) {
    sockaddr_storage storage{};
    socklen_t length = sizeof storage;
    get(socket, reinterpret_cast<sockaddr*>(&storage), &length);
    return storage;
  };
  const sockaddr_storage own_name = ask(::getsockname);
  const End client = end_of(ask(::getpeername));
  const End server = end_of(own_name);
  const bool is_here = client.is_loopback || own_name.ss_family == AF_UNIX ||
                       (!client.address.empty() && client.address == server.address);
  return {client.address, client.port, server.address, server.port, is_here};
}

Ends Transport::ends() const {
  // The descriptor is not changed by asking; that the library has no const way to it is its own matter.
  return ends_of(const_cast<Socket&>(socket_).native_handle());
}

Sent Transport::send_pieces_now(Outgoing& out) {
  auto& pieces = out.pieces;
  std::size_t first = 0;
  std::size_t end = pieces.size();
  while (end > 0 && pieces[end - 1].iov_len == 0) --end;
  for (;;) {
    while (first < end && pieces[first].iov_len == 0) ++first;
    if (first == end) return Sent::all;
    if (is_aborted_) return Sent::failed;
    msghdr message{};
    message.msg_iov = &pieces[first];
    message.msg_iovlen = end - first;
    // A head waits for the file's first bytes, so that they leave in one packet.
    const int more = out.file.length > 0 ? MSG_MORE : 0;
    const ssize_t sent = ::sendmsg(socket_.native_handle(), &message, MSG_NOSIGNAL | more);
    if (sent < 0 && errno == EINTR) continue;
    if (sent < 0) return errno == EAGAIN ? Sent::some : Sent::failed;
    auto left = static_cast<std::size_t>(sent);
    sent_bytes_ += left;
    for (std::size_t i = first; i < end; ++i) {
      const std::size_t taken = std::min(left, pieces[i].iov_len);
      pieces[i].iov_base = static_cast<char*>(pieces[i].iov_base) + taken;
      pieces[i].iov_len -= taken;
      left -= taken;
    }
  }
}

Sent Transport::send_file_now(FilePart& part) {
  const std::uint64_t until = part.length - std::min(part.length, kMostOfFileAtOnce);
  while (part.length > until) {
    if (is_aborted_) return Sent::failed;
    auto at = static_cast<off_t>(part.offset);
    const ssize_t sent =
        ::sendfile(socket_.native_handle(), part.file, &at, static_cast<std::size_t>(part.length - until));
    if (sent < 0 && errno == EINTR) continue;
    if (sent < 0) return errno == EAGAIN ? Sent::some : Sent::failed;
    if (sent == 0) return Sent::failed;  // The file has become shorter: only cutting the connection tells the client.
    sent_bytes_ += static_cast<std::uint64_t>(sent);
    part.offset += static_cast<std::uint64_t>(sent);
    part.length -= static_cast<std::uint64_t>(sent);
  }
  return part.length == 0 ? Sent::all : Sent::some;
}

Sent Transport::send_now(Outgoing& out) {
  if (tap_ == nullptr) return send_untapped(out);
  const Outgoing before = out;
  const Sent sent = send_untapped(out);
  tap_->sent(before, out);
  return sent;
}

Sent Transport::send_untapped(Outgoing& out) {
  const Sent sent = send_pieces_now(out);
  return sent == Sent::all ? send_file_now(out.file) : sent;
}

asio::awaitable<bool> Transport::send_rest(Outgoing& out, std::chrono::seconds patience) {
  for (;;) {
    send_deadline_ = coarse_now() + patience;
    co_await socket_.async_wait(Socket::wait_write, run::kAwait);
    send_deadline_ = Clock::time_point::max();
    if (has_send_expired_) co_return false;
    const Sent sent = send_now(out);
    if (sent != Sent::some) co_return sent == Sent::all;
  }
}

void Transport::send_hastily(std::string_view text) noexcept {
  const ssize_t sent = ::send(socket_.native_handle(), text.data(), text.size(), MSG_NOSIGNAL | MSG_DONTWAIT);
  if (tap_ != nullptr && sent > 0) tap_->sent(text.substr(0, static_cast<std::size_t>(sent)));
}

asio::awaitable<Transport::Shows> Transport::look() {
  for (;;) {
    const auto [error] = co_await socket_.async_wait(Socket::wait_read, run::kAwait);
    if (error) co_return is_aborted_ ? Shows::broken : Shows::nothing;
    char byte = 0;
    const ssize_t got = ::recv(socket_.native_handle(), &byte, 1, MSG_PEEK | MSG_DONTWAIT);
    if (got > 0) co_return Shows::bytes;
    if (got == 0) co_return Shows::end;
    if (errno != EAGAIN && errno != EINTR) co_return Shows::broken;
  }
}

short Transport::poll_events(short events) const {
  pollfd state{const_cast<Socket&>(socket_).native_handle(), events, 0};
  return ::poll(&state, 1, 0) > 0 ? state.revents : short{0};
}

bool Transport::has_hung_up() const { return (poll_events(POLLRDHUP) & (POLLRDHUP | POLLERR | POLLHUP)) != 0; }

bool Transport::is_broken() const { return (poll_events(0) & (POLLERR | POLLHUP)) != 0; }

void Transport::cancel() {
  boost::system::error_code ignored;
  socket_.cancel(ignored);
}

void Transport::abort() {
  is_aborted_ = true;
  cancel();
}

void Transport::check_deadlines(Clock::time_point now) {
  if (now < receive_deadline_ && now < send_deadline_) return;
  // On a busy machine what has come in time may not have been seen yet.
  const short ready = poll_events(POLLIN | POLLOUT);
  const bool has_expired = now >= receive_deadline_ && (ready & POLLIN) == 0;
  const bool has_send_expired = now >= send_deadline_ && (ready & POLLOUT) == 0;
  if (has_expired) {
    has_expired_ = true;
    receive_deadline_ = Clock::time_point::max();
  }
  if (has_send_expired) {
    has_send_expired_ = true;
    send_deadline_ = Clock::time_point::max();
  }
  if (has_expired || has_send_expired) cancel();
}

asio::awaitable<void> Transport::close_gently() {
  boost::system::error_code error;
  socket_.shutdown(Socket::shutdown_send, error);
  if (error) co_return;
  has_expired_ = false;
  const auto until = receive_deadline_ = coarse_now() + kLingerTime;
  std::array<char, 4096> dropped;
  while (!is_aborted_ && !has_expired_ && coarse_now() < until) {
    const auto [failed, got] = co_await receive(dropped);
    if (got == 0) break;
  }
}

int Transport::release() {
  boost::system::error_code error;
  const int socket = socket_.release(error);
  return error ? -1 : socket;
}

void Transport::close() {
  boost::system::error_code ignored;
  socket_.close(ignored);
}

}  // namespace porter::server
