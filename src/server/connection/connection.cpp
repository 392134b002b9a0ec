// A connection's life: reading heads, handing requests over, timing, closing. See connection.hpp.
#include "server/connection/connection.hpp"

#include <poll.h>
#include <sys/sendfile.h>
#include <sys/socket.h>

#include <algorithm>
#include <cerrno>
#include <new>
#include <utility>

#include "machine/port_holder.hpp"
#include "server/answer/answer.hpp"

namespace porter::server {
namespace {

// A browser's request fits in one to two KiB; the buffer grows for those that do not, and shrinks again when idle.
constexpr std::size_t kSmallBuffer = 2 * 1024;
constexpr std::size_t kLargeBuffer = 64 * 1024;
constexpr std::uint64_t kMostDrained = 1024 * 1024;
constexpr std::chrono::seconds kLingerTime{2};

/// The finding for a head that cannot be read.
Finding head_finding(const http::HeadProblem& problem, const http::HeadLimits& limits) {
  using http::HeadError;
  const auto malformed = [&](std::string_view what) {
    Finding finding{Code::malformed_request, {{"problem", std::string(what)}}};
    if (!problem.detail.empty()) finding.facts.emplace_back("detail", problem.detail);
    return finding;
  };
  switch (problem.error) {
    case HeadError::tls_handshake:
      return {Code::tls_on_plain_port, {}};
    case HeadError::bad_request_line:
      return malformed("its first line is not METHOD TARGET HTTP/1.1");
    case HeadError::bad_method:
      return malformed("it does not begin with a method");
    case HeadError::bad_version:
      return malformed("its first line does not end in HTTP/1.1 or HTTP/1.0");
    case HeadError::other_version:
      return {Code::version_unknown, {{"version", problem.detail}}};
    case HeadError::line_too_long:
      return {Code::request_line_too_long, {{"limit", std::to_string(limits.request_line)}}};
    case HeadError::head_too_large:
      return {Code::head_too_large, {{"limit", std::to_string(limits.head)}}};
    case HeadError::too_many_fields:
      return {Code::too_many_fields, {{"limit", std::to_string(limits.fields)}}};
    case HeadError::no_colon:
      return malformed("a field line has no colon");
    case HeadError::bad_field_name:
      return malformed("a field's name is no token, or a space stands before the colon");
    case HeadError::folded_line:
      return malformed("a field line begins with white space");
    case HeadError::bare_cr:
      return malformed("it holds a carriage return without a line feed");
    case HeadError::control_character:
      return malformed("a field's value holds a control character");
  }
  return {Code::malformed_request, {}};
}

Finding head_too_slow(const Settings& settings) {
  return {Code::head_too_slow, {{"seconds", std::to_string(settings.limits.head_time.count())}}};
}

iovec piece(std::string_view bytes) { return {const_cast<char*>(bytes.data()), bytes.size()}; }

std::string text_of(const asio::ip::address& address) {
  if (address.is_v6() && address.to_v6().is_v4_mapped())
    return asio::ip::make_address_v4(asio::ip::v4_mapped, address.to_v6()).to_string();
  return address.to_string();
}

}  // namespace

Connection::Connection(Worker& worker, asio::ip::tcp::socket socket, Endpoint endpoint)
    : worker_(worker),
      socket_(std::move(socket)),
      endpoint_(std::move(endpoint)),
      served_(worker.served()),
      buffer_(kSmallBuffer) {
  listener_ = served_->snapshot->find(endpoint_);
  boost::system::error_code ignored;
  socket_.non_blocking(true, ignored);
  socket_.set_option(asio::ip::tcp::no_delay(true), ignored);
  const auto client = socket_.remote_endpoint(ignored);
  const auto server = socket_.local_endpoint(ignored);
  peer_ = {text_of(client.address()), client.port(), text_of(server.address()), server.port(),
           client.address().is_loopback() || client.address() == server.address()};
  worker_.add(*this);
}

Connection::~Connection() { worker_.remove(*this); }

const Site& Connection::site() const {
  static const Site kNone;
  return site_ != nullptr ? *site_ : kNone;
}

void Connection::remember_host(std::string_view host) {
  known_host_ = host;
  known_site_ = site_;
}

void Connection::take_settings() {
  if (served_ == worker_.served()) return;
  const Listener* const listener = worker_.served()->snapshot->find(endpoint_);
  known_host_.clear();
  if (listener == nullptr) {
    // The address is no longer listened on. What was asked already is still answered, as before, and no more.
    keep_ = false;
    return;
  }
  served_ = worker_.served();
  listener_ = listener;
  site_ = known_site_ = nullptr;
}

asio::awaitable<void> Connection::serve() {
  const auto self = shared_from_this();
  // Between the acceptance and now the address may have been given up.
  if (listener_ == nullptr) keep_ = false;
  while (keep_ && !aborted_ && !worker_.is_stopping()) {
    const HeadRead read = co_await read_head();
    if (read == HeadRead::closed) break;
    // A connection on which nothing was ever asked is closed without a word: browsers open some to have them ready.
    if (read == HeadRead::expired && end_ == begin_) break;
    idle_ = false;
    site_ = nullptr;
    take_settings();
    answered_ = {std::chrono::system_clock::now(), Clock::now(), 0, 0, {}};
    has_begun_answer_ = false;
    bool is_lost = false;
    try {
      if (read == HeadRead::whole) {
        const Quick quick = answer_quickly();
        if (quick != Quick::done) co_await finish_answer(quick);
      } else if (read == HeadRead::rejected) {
        co_await answer_problem_head(head_finding(*problem_, settings().limits.head));
      } else {
        co_await answer_problem_head(head_too_slow(settings()));
      }
    } catch (const std::exception&) {
      is_lost = true;
    }
    if (is_lost) give_up_request();
    idle_ = true;
  }
  if (!aborted_) co_await close_gently();
  boost::system::error_code ignored;
  socket_.close(ignored);
}

asio::awaitable<Connection::HeadRead> Connection::read_head() {
  head_length_ = 0;
  std::size_t scanned = 0;
  const auto start_clock = [this] { read_deadline_ = Clock::now() + settings().limits.head_time; };
  if (begin_ < end_) {
    start_clock();
  } else {
    begin_ = end_ = 0;
    if (buffer_.size() > kSmallBuffer) std::vector<char>(kSmallBuffer).swap(buffer_);
    read_deadline_ = Clock::now() + settings().limits.idle_time;
  }
  for (;;) {
    if (const auto length = http::head_length(unread(), scanned)) {
      head_length_ = *length;
      read_deadline_ = Clock::time_point::max();
      co_return HeadRead::whole;
    }
    scanned = unread().size();
    if (scanned > 0) {
      problem_ = http::reject_early(unread(), settings().limits.head);
      if (problem_) co_return HeadRead::rejected;
    }
    const bool was_empty = begin_ == end_;
    // One byte more than a head may have, so that it shows when one is too large.
    make_room(std::max(kLargeBuffer, settings().limits.head.head + 1));
    const auto [error, got] = co_await socket_.async_read_some(free_space(), run::kAwait);
    if (error) co_return read_expired_ ? HeadRead::expired : HeadRead::closed;
    end_ += got;
    if (was_empty) start_clock();
  }
}

void Connection::make_room(std::size_t most) {
  if (end_ < buffer_.size()) return;
  if (begin_ > 0) {
    std::copy(buffer_.data() + begin_, buffer_.data() + end_, buffer_.data());
    end_ -= begin_;
    begin_ = 0;
  } else {
    buffer_.resize(std::min(most, buffer_.size() * 4));
  }
}

asio::mutable_buffer Connection::free_space() { return asio::buffer(buffer_.data() + end_, buffer_.size() - end_); }

asio::awaitable<bool> Connection::receive() {
  make_room(kLargeBuffer);
  const auto [error, got] = co_await socket_.async_read_some(free_space(), run::kAwait);
  if (error) co_return false;
  end_ += got;
  co_return true;
}

void Connection::consume(std::size_t bytes) {
  begin_ += bytes;
  if (begin_ == end_) begin_ = end_ = 0;
}

Connection::Quick Connection::answer_quickly() {
  auto parsed = http::parse_head(unread().substr(0, head_length_), settings().limits.head, std::move(head_.fields));
  if (auto* const problem = std::get_if<http::HeadProblem>(&parsed)) {
    head_ = {};
    problem_ = std::move(*problem);
    return Quick::problem;
  }
  head_ = std::move(std::get<http::RequestHead>(parsed));
  note_for_access_log(head_);
  if (worker_.is_stopping() || !keep_ || known_site_ == nullptr) return Quick::no;
  site_ = known_site_;
  quick_ = find_quick_answer(head_, files(), site_number(), known_host_);
  if (!quick_) return Quick::no;
  answered_.status = quick_->status;
  answered_.by = "file";
  answered_.body_bytes = quick_->body.size();
  parts_ = {piece(quick_->status_line), piece(quick_->fields), piece(worker_.date_and_end()), piece(quick_->body)};
  file_part_ = {quick_->file->file.get(), 0, quick_->file_size};
  const Sent sent = send_now(parts_, file_part_);
  if (sent == Sent::some) {
    // The Date line belongs to the worker and changes with the second, so what is left of it moves to a place of its
    // own.
    rest_of_date_.assign(static_cast<const char*>(parts_[2].iov_base), parts_[2].iov_len);
    parts_[2] = piece(rest_of_date_);
    return Quick::unfinished;
  }
  finish_quick(sent);
  return Quick::done;
}

asio::awaitable<void> Connection::finish_answer(Quick quick) {
  if (quick == Quick::problem) {
    co_await answer_problem_head(head_finding(*problem_, settings().limits.head));
  } else if (quick == Quick::unfinished) {
    const bool sent = co_await send_rest(parts_, file_part_);
    finish_quick(sent ? Sent::all : Sent::failed);
  } else {
    co_await handle_head();
  }
}

void Connection::finish_quick(Sent sent) {
  if (sent != Sent::all) keep_ = false;
  log_exchange(head_.method, head_.target);
  consume(std::exchange(head_length_, 0));
  quick_.reset();
}

asio::awaitable<void> Connection::handle_head() {
  const std::string_view head_bytes = unread().substr(0, head_length_);
  Request request;
  request.head = std::move(head_);
  const std::string method(request.head.method);
  const std::string target(request.head.target);

  const std::string connection_field = request.head.joined("Connection");
  if (request.head.minor_version == 0) {
    keep_ = keep_ && http::list_has(connection_field, "keep-alive");
  } else {
    keep_ = keep_ && !http::list_has(connection_field, "close");
  }
  half_close_is_fine_ = !keep_;
  if (worker_.is_stopping()) keep_ = false;

  const auto framing = http::body_framing(request.head);
  if (const auto* const error = std::get_if<http::FramingError>(&framing)) {
    request.framing_error = *error;
  } else {
    request.framing = std::get<http::BodyFraming>(framing);
  }
  body_done_ = !request.has_body();
  body_read_ = 0;
  continue_owed_ = false;
  std::string head_copy;
  if (!body_done_) {
    // The buffer is needed for the body, so the head moves to a place of its own.
    head_copy.assign(head_bytes);
    request.head = std::get<http::RequestHead>(http::parse_head(head_copy, settings().limits.head));
    consume(std::exchange(head_length_, 0));
    begin_body(request);
  }
  co_await answer(*this, request);
  consume(std::exchange(head_length_, 0));
  run_.reset();
  head_.fields = std::move(request.head.fields);  // For its memory.
  log_exchange(method, target);
  if (keep_ && !body_done_) co_await finish_body(request);
}

void Connection::begin_body(const Request& request) {
  body_length_ = request.framing.length;
  chunks_ = {};
  const auto expect = request.head.field("Expect");
  continue_owed_ = expect && http::same_name(*expect, "100-continue") && request.head.minor_version == 1;
}

void Connection::note_for_access_log(const http::RequestHead& head) {
  if (!snapshot().access_log) return;
  answered_.minor_version = head.minor_version;
  answered_.host = head.field("Host").value_or("");
  answered_.referrer = head.field("Referer").value_or("");
  answered_.user_agent = head.field("User-Agent").value_or("");
}

void Connection::log_exchange(std::string_view method, std::string_view target) {
  const auto duration = Clock::now() - answered_.begun;
  const bool shows_site = settings().sites.size() > 1;
  LogLine line{answered_.time, peer_.client_address, method, target, answered_.status,
               duration,       answered_.body_bytes, {},     0,      answered_.by};
  if (shows_site) line.site = site().name;
  if (site_ != nullptr)
    line.site_number = snapshot().site_numbers[static_cast<std::size_t>(site_ - settings().sites.data())];
  worker_.log(line);
  if (const auto& log = snapshot().access_log)
    worker_.log_access(log, {answered_.time, peer_.client_address, answered_.host, site().name, method, target,
                             answered_.minor_version, answered_.status, answered_.body_bytes, duration,
                             answered_.referrer, answered_.user_agent});
}

asio::awaitable<void> Connection::answer_problem_head(Finding finding) {
  close_after_answer();
  const std::string_view line = unread().substr(0, std::min(unread().find_first_of("\r\n"), std::size_t{200}));
  const std::string first_line(line);
  co_await answer_problem(*this, nullptr, std::move(finding), {});
  log_exchange("-", first_line.empty() ? "-" : first_line);
}

Connection::Sent Connection::send_parts_now(Parts& parts, int flags) {
  std::size_t first = 0;
  for (;;) {
    while (first < parts.size() && parts[first].iov_len == 0) ++first;
    if (first == parts.size()) return Sent::all;
    if (aborted_) return Sent::failed;
    msghdr message{};
    message.msg_iov = &parts[first];
    message.msg_iovlen = parts.size() - first;
    const ssize_t sent = ::sendmsg(socket_.native_handle(), &message, MSG_NOSIGNAL | flags);
    if (sent < 0 && errno == EINTR) continue;
    if (sent < 0) return errno == EAGAIN ? Sent::some : Sent::failed;
    has_begun_answer_ = true;
    auto left = static_cast<std::size_t>(sent);
    for (std::size_t i = first; i < parts.size(); ++i) {
      const std::size_t taken = std::min(left, parts[i].iov_len);
      parts[i].iov_base = static_cast<char*>(parts[i].iov_base) + taken;
      parts[i].iov_len -= taken;
      left -= taken;
    }
  }
}

Connection::Sent Connection::send_file_now(FilePart& part) {
  // A client that reads as fast as this sends would keep the worker from all others.
  constexpr std::uint64_t kMostAtOnce = 4 * 1024 * 1024;
  const std::uint64_t until = part.length - std::min(part.length, kMostAtOnce);
  while (part.length > until) {
    if (aborted_) return Sent::failed;
    auto at = static_cast<off_t>(part.offset);
    const ssize_t sent =
        ::sendfile(socket_.native_handle(), part.file, &at, static_cast<std::size_t>(part.length - until));
    if (sent < 0 && errno == EINTR) continue;
    if (sent < 0) return errno == EAGAIN ? Sent::some : Sent::failed;
    if (sent == 0) return Sent::failed;  // The file has become shorter: only cutting the connection tells the client.
    part.offset += static_cast<std::uint64_t>(sent);
    part.length -= static_cast<std::uint64_t>(sent);
    answered_.body_bytes += static_cast<std::uint64_t>(sent);
  }
  return part.length == 0 ? Sent::all : Sent::some;
}

Connection::Sent Connection::send_now(Parts& parts, FilePart& file) {
  // The head waits for the file's first bytes, so that they leave in one packet.
  const Sent sent = send_parts_now(parts, file.length > 0 ? MSG_MORE : 0);
  return sent == Sent::all ? send_file_now(file) : sent;
}

asio::awaitable<bool> Connection::send_rest(Parts& parts, FilePart& file) {
  for (;;) {
    if (!co_await writable()) co_return false;
    const Sent sent = send_now(parts, file);
    if (sent != Sent::some) co_return sent == Sent::all;
  }
}

asio::awaitable<bool> Connection::writable() {
  write_deadline_ = Clock::now() + settings().limits.body_pause;
  co_await socket_.async_wait(asio::ip::tcp::socket::wait_write, run::kAwait);
  write_deadline_ = Clock::time_point::max();
  co_return !write_expired_;
}

asio::awaitable<bool> Connection::send(std::string_view head, std::string_view body, std::string_view end) {
  Parts parts{piece(head), piece(body), piece(end), iovec{}};
  FilePart none;
  const Sent sent = send_now(parts, none);
  if (sent != Sent::some) co_return sent == Sent::all;
  const bool all = co_await send_rest(parts, none);
  co_return all;
}

asio::awaitable<bool> Connection::send_with_file(std::string_view head, int file, std::uint64_t offset,
                                                 std::uint64_t length) {
  Parts parts{piece(head), iovec{}, iovec{}, iovec{}};
  FilePart part{file, offset, length};
  const Sent sent = send_now(parts, part);
  if (sent != Sent::some) co_return sent == Sent::all;
  const bool all = co_await send_rest(parts, part);
  co_return all;
}

asio::awaitable<BodyRead> Connection::read_body(const Request& request, std::string& out) {
  if (body_done_) co_return BodyRead::end;
  if (continue_owed_ && begin_ == end_) {
    continue_owed_ = false;
    if (!co_await send("HTTP/1.1 100 Continue\r\n\r\n")) co_return BodyRead::gone;
  }
  if (begin_ == end_) {
    begin_ = end_ = 0;
    if (buffer_.size() < kLargeBuffer) buffer_.resize(kLargeBuffer);
    read_deadline_ = Clock::now() + settings().limits.body_pause;
    const bool received = co_await receive();
    read_deadline_ = Clock::time_point::max();
    if (!received) co_return read_expired_ ? BodyRead::too_slow : BodyRead::gone;
  }
  if (request.framing.kind == http::BodyFraming::Kind::length) {
    const auto take =
        static_cast<std::size_t>(std::min<std::uint64_t>(end_ - begin_, request.framing.length - body_read_));
    out.append(buffer_.data() + begin_, take);
    consume(take);
    body_read_ += take;
    body_done_ = body_read_ == request.framing.length;
    co_return BodyRead::data;
  }
  const std::size_t before = out.size();
  consume(chunks_.read(unread(), out));
  body_read_ += out.size() - before;
  if (chunks_.state() == http::ChunkReader::State::bad) co_return BodyRead::malformed;
  if (body_read_ > settings().limits.body) co_return BodyRead::too_large;
  body_done_ = chunks_.state() == http::ChunkReader::State::done;
  co_return BodyRead::data;
}

asio::awaitable<void> Connection::finish_body(const Request& request) {
  // Nobody wanted the rest of the body; a short one is worth reading to keep the connection.
  if (continue_owed_ || (body_length_ > 0 && body_length_ - body_read_ > kMostDrained)) {
    keep_ = false;
    co_return;
  }
  std::string dropped;
  std::uint64_t drained = 0;
  while (!body_done_ && drained <= kMostDrained) {
    dropped.clear();
    const BodyRead read = co_await read_body(request, dropped);
    drained += dropped.size();
    if (read != BodyRead::data && read != BodyRead::end) break;
  }
  if (!body_done_) keep_ = false;
}

asio::awaitable<bool> Connection::client_leaves() {
  for (;;) {
    if (reading_cancelled_ || begin_ + head_length_ < end_) co_return false;
    const auto [error] = co_await socket_.async_wait(asio::ip::tcp::socket::wait_read, run::kAwait);
    if (reading_cancelled_) co_return false;
    if (error) {
      if (aborted_) co_return true;
      continue;  // Cancelled for another's sake.
    }
    char byte = 0;
    const ssize_t got = ::recv(socket_.native_handle(), &byte, 1, MSG_PEEK | MSG_DONTWAIT);
    if (got > 0) co_return false;
    if (got == 0) co_return end_of_sending_means_gone();
    if (errno != EAGAIN && errno != EINTR) co_return true;
  }
}

bool Connection::has_client_left() {
  pollfd state{socket_.native_handle(), POLLRDHUP, 0};
  if (::poll(&state, 1, 0) <= 0) return false;
  return (state.revents & (POLLERR | POLLHUP)) != 0 || end_of_sending_means_gone();
}

bool Connection::end_of_sending_means_gone() const {
  // A client that announced its last request may close its sending side and still wait for the answer. Of one on this
  // computer it can be told whether it still has its end of the connection; of others, when something is sent to them.
  if (!half_close_is_fine_) return true;
  return peer_.is_this_computer && !machine::is_end_held(peer_.client_port, peer_.server_port);
}

bool Connection::will_close() {
  // Who waits to be told to go on is not told, and must not take the next request for the body; a long body is not read
  // to its end for nobody.
  const bool is_left = !body_done_ && body_read_ == 0 && (continue_owed_ || body_length_ > kMostDrained);
  if (is_left) keep_ = false;
  return !keep_;
}

void Connection::give_up_request() {
  // Nothing here allocates.
  constexpr std::string_view kAnswer =
      "HTTP/1.1 503 Service Unavailable\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: 62\r\n"
      "Retry-After: 2\r\nCache-Control: no-store\r\nConnection: close\r\n\r\n"
      "The server has no memory left for this request. Try it again.\n";
  keep_ = false;
  if (!has_begun_answer_) [[maybe_unused]]
    const ssize_t sent = ::send(socket_.native_handle(), kAnswer.data(), kAnswer.size(), MSG_NOSIGNAL | MSG_DONTWAIT);
  run_.reset();
  when_client_leaves_ = nullptr;
  quick_.reset();
  begin_ = end_ = head_length_ = 0;
  try {
    worker_.note_lack_of_memory();
  } catch (const std::exception&) {
    // The next one that is told of will do.
  }
}

void Connection::cancel_reading() {
  reading_cancelled_ = true;
  boost::system::error_code ignored;
  socket_.cancel(ignored);
}

void Connection::close_if_idle() {
  if (!idle_ || begin_ < end_) return;
  keep_ = false;
  boost::system::error_code ignored;
  socket_.cancel(ignored);
}

void Connection::abort() {
  aborted_ = true;
  keep_ = false;
  if (run_) run_->terminate();
  if (when_client_leaves_) std::exchange(when_client_leaves_, nullptr)();
  boost::system::error_code ignored;
  socket_.cancel(ignored);
}

void Connection::check_deadline(Clock::time_point now) {
  if (when_client_leaves_ && has_client_left()) std::exchange(when_client_leaves_, nullptr)();
  if (now < read_deadline_ && now < write_deadline_) return;
  if (now >= read_deadline_) {
    read_expired_ = true;
    read_deadline_ = Clock::time_point::max();
  }
  if (now >= write_deadline_) {
    write_expired_ = true;
    write_deadline_ = Clock::time_point::max();
  }
  boost::system::error_code ignored;
  socket_.cancel(ignored);
}

asio::awaitable<void> Connection::close_gently() {
  // Closing a socket with unread bytes resets it, and the reset can overtake the answer (RFC 9112, section 9.6). So the
  // sending side is closed first, and what still comes is read for a moment.
  boost::system::error_code ignored;
  socket_.shutdown(asio::ip::tcp::socket::shutdown_send, ignored);
  if (ignored) co_return;
  read_expired_ = false;
  read_deadline_ = Clock::now() + kLingerTime;
  while (!aborted_ && !read_expired_) {
    begin_ = end_ = 0;
    if (!co_await receive()) break;
  }
}

}  // namespace porter::server
