// Reading an answer from its records, sending a request's body in others, and the ways in which a run can end. See
// fastcgi_run.hpp.
#include "run/fastcgi_run.hpp"

#include <fcntl.h>
#include <sys/socket.h>
#include <sys/uio.h>
#include <unistd.h>

#include <algorithm>
#include <boost/asio/buffer.hpp>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/post.hpp>
#include <cerrno>
#include <csignal>
#include <cstring>
#include <exception>
#include <new>
#include <utility>

#include "core/script/judge.hpp"

namespace porter::run {
namespace {

constexpr std::size_t kReadAhead = FastCgiPeer::kReadAhead;
constexpr std::size_t kPieceOfInput = 64 * 1024 - 8;  ///< Bytes of input in one record.
/// A run that nobody wants any more mostly ends by itself, and so its process need not be replaced.
constexpr std::chrono::milliseconds kEndAfterStop{100};
/// A process that crashes closes its connections a moment before it has ended.
constexpr std::chrono::milliseconds kEndAfterCut{100};
constexpr std::chrono::seconds kOrphansOfKept{1};

/// Has a socket of this machine hold more of a large body: its reader is not to wait until others have had their turn
/// on the processor. As much as the system allows.
void widen(int socket) {
  constexpr int kRoom = 1024 * 1024;
  int domain = 0;
  socklen_t length = sizeof domain;
  if (::getsockopt(socket, SOL_SOCKET, SO_DOMAIN, &domain, &length) == 0 && domain == AF_UNIX)
    ::setsockopt(socket, SOL_SOCKET, SO_SNDBUF, &kRoom, sizeof kRoom);
}

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

/// What a program says of its refusal.
std::string_view reason_of(fastcgi::AnswerReader::End::Protocol protocol) {
  using Protocol = fastcgi::AnswerReader::End::Protocol;
  switch (protocol) {
    case Protocol::cannot_multiplex:
      return "it takes one request at a time over a connection";
    case Protocol::overloaded:
      return "it has too much to do";
    case Protocol::unknown_role:
      return "it does not answer requests for pages";
    default:
      return "";
  }
}

}  // namespace

std::shared_ptr<FastCgiRun> FastCgiRun::begin(const asio::any_io_executor& executor, RunSet& set,
                                              const std::shared_ptr<FastCgiPeer>& peer, Order& order) {
  auto run = std::make_shared<FastCgiRun>(Begun(), executor, set, peer, order);
  run->text_ = std::move(order.request);
  fastcgi::address(run->text_, run->request_, peer->then());
  if (order.input == InputKind::nothing) {
    run->input_ = Input::closed;
    run->is_whole_ = true;
  }
  if (peer->was_sent_ahead()) {
    run->sent_ = run->text_.size();
    run->unread_ = peer->take_early_answer();
  } else if (!run->send_now()) {
    order.request = std::move(run->text_);
    run->peer_.reset();
    return nullptr;
  }
  peer->begins(order.is_short && run->is_whole_ && run->unsent().empty());
  run->is_measured_ = order.is_measured;
  run->others_ = std::move(order.others);
  run->input_file_ = std::move(order.input_file);
  run->ticket_ = std::move(order.ticket);
  run->watch_peer();
  set.add(run);
  try {
    if (order.input == InputKind::file) {
      asio::co_spawn(executor, run->feed_file(), [run](const std::exception_ptr& failure) {
        if (failure) run->stop();
      });
    } else if (order.input == InputKind::nothing && !run->unsent().empty()) {
      run->flush_meanwhile();
    }
  } catch (const std::bad_alloc&) {
    set.remove(*run);  // Nobody would give it an end.
    throw;
  }
  return run;
}

bool FastCgiRun::send_now() {
  ssize_t sent = 0;
  do sent = ::send(peer_->connection().native_handle(), unsent().data(), unsent().size(), MSG_NOSIGNAL);
  while (sent < 0 && errno == EINTR);
  if (sent < 0 && errno != EAGAIN) return false;
  sent_ += static_cast<std::size_t>(std::max<ssize_t>(sent, 0));
  return true;
}

void FastCgiRun::watch_peer() {
  peer_->when_ended([this] {
    const auto self = shared_from_this();
    process_ended();
  });
}

FastCgiRun::FastCgiRun(Begun, const asio::any_io_executor& executor, RunSet& set, std::shared_ptr<FastCgiPeer> peer,
                       const Order& order)
    : set_(set),
      executor_(executor),
      peer_(std::move(peer)),
      request_(peer_->next_request()),
      reader_(request_),
      processor_time_allowed_(order.processor_time),
      error_text_(order.error_stream_limit),
      ended_(executor),
      patience_(executor) {
  if (processor_time_allowed_.count() > 0 && peer_->process() != nullptr)
    computed_look_ = begun_ + processor_time_allowed_;
}

FastCgiRun::~FastCgiRun() {
  if (peer_) peer_->when_ended(nullptr);
}

void FastCgiRun::when_long(std::function<void()> then) {
  if (has_ended()) return;
  when_long_ = std::move(then);
  set_.look_by(begun_ + kShortRun);
}

void FastCgiRun::note_if_long(std::function<Gate::Ticket()> note) {
  if (has_ended()) return;
  note_long_ = std::move(note);
  set_.look_by(begun_ + kShortRun);
}

void FastCgiRun::answer_has_begun(bool is_stream) {
  if (has_ended()) return;
  streams_at_ = begun_ + (is_stream ? std::chrono::seconds(0) : kStreamsAfter);
  set_.look_by(streams_at_);
}

Clock::time_point FastCgiRun::look(Clock::time_point now) {
  if (has_ended()) return Clock::time_point::max();
  if (now < begun_ + kShortRun) return begun_ + kShortRun;
  peer_->lasts();
  if (const auto then = std::exchange(when_long_, nullptr)) then();
  if (const auto note = std::exchange(note_long_, nullptr)) {
    noted_ = note();
    if (noted_ && peer_->process() != nullptr) noted_->set_process(peer_->process()->id());
  }
  set_.look_for_orphans(kOrphansOfKept);
  if (now >= deadline_) {
    deadline_ = Clock::time_point::max();
    was_too_slow_ = true;
    terminate();
  } else if (now >= terminate_at_) {
    // It has closed its connection, and lives on.
    if (is_cut_ && !is_stopped_ && !failure_) failure_ = Finding{Code::fastcgi_closed, {{"program", peer_->name()}}};
    terminate();
  }
  if (!has_ended() && computed_look_ != Clock::time_point::max() && work_before_.count() == 0)
    work_before_ = peer_->process()->processor_time().value_or(std::chrono::nanoseconds(0));
  if (!has_ended() && now >= computed_look_) {
    const auto used = peer_->process()->processor_time().value_or(std::chrono::nanoseconds(0)) - work_before_;
    computed_look_ = now + std::max<Clock::duration>(processor_time_allowed_ - used, kShortRun);
    if (used >= processor_time_allowed_) {
      was_over_time_ = true;
      terminate();
    }
  }
  // The bound for all runs holds for those as well that only stream.
  if (!has_ended() && now >= streams_at_) {
    streams_at_ = Clock::time_point::max();
    if (noted_) {
      noted_->give_turn_back();
      if (ticket_) ticket_->give_turn_back();
      peer_->only_streams();
    }
  }
  if (has_ended()) return Clock::time_point::max();
  return std::min({deadline_, terminate_at_, computed_look_, streams_at_, peer_->look(now)});
}

asio::awaitable<bool> FastCgiRun::send(Parts parts) {
  const auto self = shared_from_this();
  const auto peer = peer_;
  for (auto next = parts.begin(); next != parts.end();) {
    if (next->empty()) {
      ++next;
      continue;
    }
    if (!is_connected() || input_ == Input::broken) co_return false;
    std::array<iovec, std::tuple_size_v<Parts>> vectors;
    std::transform(next, parts.end(), vectors.begin(), [](std::string_view part) {
      return iovec{const_cast<char*>(part.data()), part.size()};
    });
    msghdr message{};
    message.msg_iov = vectors.data();
    message.msg_iovlen = static_cast<std::size_t>(parts.end() - next);
    const ssize_t sent = ::sendmsg(peer->connection().native_handle(), &message, MSG_NOSIGNAL);
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

asio::awaitable<bool> FastCgiRun::send(Passage& passage, std::size_t size) {
  const auto self = shared_from_this();
  const auto peer = peer_;
  while (size > 0) {
    if (!is_connected() || input_ == Input::broken) co_return false;
    const ssize_t given = passage.give(peer->connection().native_handle(), size);
    const int error = given < 0 ? errno : 0;
    if (error != 0 && error != EAGAIN) co_return false;
    size -= static_cast<std::size_t>(std::max<ssize_t>(given, 0));
    if (error == EAGAIN) co_await peer->connection().async_wait(asio::posix::stream_descriptor::wait_write, kAwait);
  }
  co_return true;
}

asio::awaitable<bool> FastCgiRun::flush() {
  const auto self = shared_from_this();
  const While writing(is_writing_);
  // While it is on its way, another process may be asked in place of this one.
  const std::string rest(unsent());
  sent_ = text_.size();
  const Parts parts{rest};
  const bool is_sent = co_await send(parts);
  if (!is_sent) input_ = Input::broken;
  co_return is_sent;
}

void FastCgiRun::flush_meanwhile() {
  is_writing_ = true;
  asio::co_spawn(executor_, flush(), [self = shared_from_this()](const std::exception_ptr& failure, bool) {
    if (failure) self->stop();
  });
}

asio::awaitable<bool> FastCgiRun::write(std::string_view data) {
  const auto self = shared_from_this();
  if (!is_connected() || input_ != Input::open) co_return false;
  bool is_sent = true;
  if (!unsent().empty()) is_sent = co_await flush();
  while (is_sent && !data.empty()) {
    // What is read at once of a body may be more than a record holds.
    std::array<std::array<char, fastcgi::kHeaderSize>, 2> headers;
    Parts parts;
    for (std::size_t i = 0; i < headers.size() && !data.empty(); ++i) {
      const std::string_view piece = data.substr(0, kPieceOfInput);
      data.remove_prefix(piece.size());
      const fastcgi::Header header{fastcgi::RecordType::input, request_, static_cast<std::uint16_t>(piece.size())};
      headers[i] = header.bytes();
      parts[2 * i] = {headers[i].data(), headers[i].size()};
      parts[2 * i + 1] = piece;
    }
    const While writing(is_writing_);
    is_sent = co_await send(parts);
  }
  if (!is_sent) input_ = Input::broken;
  co_return is_sent;
}

asio::awaitable<bool> FastCgiRun::write(Passage& passage) {
  const auto self = shared_from_this();
  if (!is_connected() || input_ != Input::open) co_return false;
  bool is_sent = true;
  if (!unsent().empty()) is_sent = co_await flush();
  if (is_sent && is_connected() && !std::exchange(is_wide_, true)) widen(peer_->connection().native_handle());
  while (is_sent && passage.size() > 0) {
    const std::size_t size = std::min(passage.size(), kPieceOfInput);
    const auto header = fastcgi::Header{fastcgi::RecordType::input, request_, static_cast<std::uint16_t>(size)}.bytes();
    const Parts parts{std::string_view(header.data(), header.size())};
    const While writing(is_writing_);
    is_sent = co_await send(parts);
    if (is_sent) is_sent = co_await send(passage, size);
  }
  if (!is_sent) input_ = Input::broken;
  co_return is_sent;
}

void FastCgiRun::close_input() {
  if (input_ != Input::open) return;
  if (!is_connected()) {
    input_ = Input::broken;
    return;
  }
  // Whoever closes it while something is on its way does not mean the rest to arrive.
  if (is_writing_) {
    input_ = Input::broken;
    wake();
    return;
  }
  input_ = Input::closed;
  fastcgi::append_end_of_stream(text_, fastcgi::RecordType::input, request_);
  // Should nobody be there any more, reading tells of it.
  send_now();
  if (!unsent().empty()) flush_meanwhile();
}

asio::awaitable<void> FastCgiRun::feed_file() {
  const auto self = shared_from_this();
  const auto piece = std::make_unique_for_overwrite<char[]>(kPieceOfInput);
  for (bool is_taken = true; is_taken;) {
    const ssize_t got = ::read(input_file_.get(), piece.get(), kPieceOfInput);
    if (got < 0 && errno == EINTR) continue;
    if (got <= 0) break;
    is_taken = co_await write({piece.get(), static_cast<std::size_t>(got)});
  }
  close_input();
}

void FastCgiRun::take_error_text() {
  if (peer_) error_text_.add(peer_->take_error_text());
}

void FastCgiRun::take_part(const fastcgi::AnswerReader::Part& part, std::span<char> buffer, std::size_t& taken) {
  using Kind = fastcgi::AnswerReader::Part::Kind;
  switch (part.kind) {
    case Kind::output: {
      has_answered_ = true;
      const std::size_t size = std::min(part.content.size(), buffer.size() - taken);
      std::copy_n(part.content.data(), size, buffer.data() + taken);
      taken += size;
      left_over_ = part.content.substr(size);
      return;
    }
    case Kind::end_of_output:
      has_output_ended_ = true;
      return;
    case Kind::error:
      has_answered_ = true;
      return error_text_.add(part.content);
    case Kind::end_of_request:
      return finish();
    case Kind::broken:
      return fail({Code::fastcgi_broken, {{"problem", reader_.problem()}, {"program", peer_->name()}}});
  }
}

std::optional<std::size_t> FastCgiRun::take(std::span<char> buffer) {
  std::size_t taken = std::min(left_over_.size(), buffer.size());
  if (taken > 0) std::copy_n(left_over_.data(), taken, buffer.data());
  left_over_.remove_prefix(taken);
  // As far as there is room, and beyond that what is no output: so the end is known as soon as it is here.
  while (left_over_.empty() && is_connected()) {
    const auto part = reader_.next(unread_);
    if (!part) break;
    take_part(*part, buffer, taken);
  }
  if (taken > 0) return taken;
  if (has_output_ended_ || has_ended() || (is_cut_ && !may_begin_again())) return 0;
  return std::nullopt;
}

void FastCgiRun::take_first() {
  std::string output(unread_.size(), '\0');
  output.resize(take(output).value_or(0));
  kept_output_ = std::move(output);
  left_over_ = kept_output_;
}

void FastCgiRun::await_first(std::function<void()> then) {
  first_then_ = std::move(then);
  if (fastcgi::holds_end(unread_)) {
    // Not from here, since it may go on so with the next one.
    asio::post(executor_, [self = shared_from_this()] { self->first_has_come({}); });
    return;
  }
  // The peer stays for as long as something is on its way into its memory.
  const auto peer = peer_;
  char* const bytes = read_ahead();
  const std::size_t kept = unread_.size();
  if (kept > 0) std::memmove(bytes, unread_.data(), kept);
  unread_ = {bytes, kept};
  peer->connection().async_read_some(
      asio::buffer(bytes + kept, kReadAhead - kept),
      [self = shared_from_this(), peer, bytes](const boost::system::error_code& error, std::size_t got) {
        self->is_reading_ = false;
        self->unread_ = {bytes, self->unread_.size() + got};
        self->first_has_come(error);
      });
  is_reading_ = true;  // Only now is there anybody who will say that it is over.
}

void FastCgiRun::first_has_come(const boost::system::error_code& error) {
  try {
    // Of a longer answer, or one that goes on, it is taken piece by piece.
    if (!error) {
      if (!has_ended() && fastcgi::holds_end(unread_)) take_first();
    } else if (error != asio::error::operation_aborted && is_connected()) {
      was_cut(error);
    }
  } catch (const std::bad_alloc&) {
    is_lost_ = true;  // As whoever reads on is told.
  }
  if (const auto call = std::exchange(first_then_, nullptr)) call();
}

void FastCgiRun::leave_first() {
  if (first_then_ && peer_) wake();
}

asio::awaitable<std::optional<std::size_t>> FastCgiRun::read_by(std::span<char> buffer, Clock::time_point time) {
  const auto self = shared_from_this();
  if (is_lost_) throw std::bad_alloc();
  const bool is_to_be_dropped = std::exchange(is_dropping_, false);
  while (is_draining_ && !is_to_be_dropped) {
    // It is read for nobody any more.
    if (has_ended()) co_return 0;
    if (Clock::now() >= time) co_return std::nullopt;
    co_await ended_.wait_until(time);
  }
  if (!is_to_be_dropped) is_lent_ = false;
  for (;;) {
    if (const auto taken = take(buffer)) co_return *taken;
    const bool has_more = co_await await_more(time);
    if (!has_more) co_return std::nullopt;
  }
}

asio::awaitable<void> FastCgiRun::read_pieces(std::span<char> space, Pieces& pieces) {
  const auto self = shared_from_this();
  is_lent_ = false;
  while (!is_draining_ && !is_lost_) {
    if (lend(pieces)) co_return;
    if (const auto taken = take(space)) {
      pieces.add({space.data(), *taken});
      co_return;
    }
    co_await await_more(Clock::time_point::max());
  }
  const std::size_t got = co_await read(space);
  pieces.add({space.data(), got});
}

bool FastCgiRun::lend(Pieces& pieces) {
  // Small ones are better sent many together.
  constexpr std::size_t kLarge = 16 * 1024;
  take({});
  if (left_over_.size() < kLarge) return false;
  // From here on, so that the end of the run, which may lie behind it, leaves it where it is.
  is_lent_ = true;
  while (!left_over_.empty() && !pieces.is_full()) {
    pieces.add(std::exchange(left_over_, {}));
    if (!pieces.is_full()) take({});
  }
  return true;
}

char* FastCgiRun::read_ahead() {
  auto& memory = peer_->read_ahead();
  if (!memory) memory = std::make_unique_for_overwrite<char[]>(kReadAhead);
  return memory.get();
}

void FastCgiRun::keep_lent() {
  if (std::exchange(is_lent_, false)) lent_ = std::move(peer_->read_ahead());
}

asio::awaitable<bool> FastCgiRun::await_more(Clock::time_point time) {
  const auto self = shared_from_this();
  if (is_cut_) {
    // How its process has ended tells whether another one may be asked.
    if (time <= Clock::now()) co_return false;
    patience_.expires_at(std::min(time, terminate_at_));
    const While reading(is_reading_);
    co_await patience_.async_wait(kAwait);
    co_return true;
  }
  const auto peer = peer_;
  char* const bytes = read_ahead();
  boost::system::error_code error;
  std::size_t got = 0;
  // Of a header that has come in part, that part is kept.
  const std::size_t kept = unread_.size();
  if (kept > 0) std::memmove(bytes, unread_.data(), kept);
  char* const space = bytes + kept;
  if (is_process_gone_) {
    // What lies here is all, even where something that it has started holds the connection open.
    const ssize_t read = ::read(peer->connection().native_handle(), space, kReadAhead - kept);
    got = static_cast<std::size_t>(std::max<ssize_t>(read, 0));
    if (read == 0) error = asio::error::eof;
    if (read < 0) error.assign(errno, boost::system::system_category());
  } else {
    const bool is_bounded = time != Clock::time_point::max();
    if (is_bounded) {
      patience_.expires_at(time);
      patience_.async_wait([self, peer](const boost::system::error_code& cancelled) {
        if (!cancelled && self->peer_ == peer && self->is_reading_) self->wake();
      });
    }
    {
      const While reading(is_reading_);
      std::tie(error, got) =
          co_await peer->connection().async_read_some(asio::buffer(space, kReadAhead - kept), kAwait);
    }
    if (is_bounded) patience_.cancel();
  }
  unread_ = {bytes, kept + got};
  if (!error) co_return true;
  if (error != asio::error::operation_aborted) {
    if (is_connected()) was_cut(error);
    co_return true;
  }
  co_return !is_connected() || is_process_gone_ || Clock::now() < time;
}

asio::awaitable<std::size_t> FastCgiRun::read(std::span<char> buffer) {
  const auto taken = co_await read_by(buffer, Clock::time_point::max());
  co_return taken.value_or(0);
}

asio::awaitable<void> FastCgiRun::drain() {
  const auto self = shared_from_this();
  const auto scratch = std::make_unique_for_overwrite<char[]>(kReadAhead);
  is_draining_ = true;
  keep_lent();
  while (!has_ended() && !is_cut_) {
    has_output_ended_ = false;
    is_dropping_ = true;
    co_await read_by({scratch.get(), kReadAhead}, Clock::time_point::max());
  }
}

void FastCgiRun::finish() {
  using Protocol = fastcgi::AnswerReader::End::Protocol;
  const auto& end = reader_.end();
  if (end.protocol != Protocol::complete)
    failure_ =
        Finding{Code::fastcgi_refused, {{"reason", std::string(reason_of(end.protocol))}, {"program", peer_->name()}}};
  // Most programs say 0 whatever has happened, so that says nothing.
  if (end.status != 0) end_.exit_status = static_cast<int>(end.status);
  const bool has_all_input = input_ == Input::closed && unsent().empty() && !is_writing_;
  const bool is_all_read = is_whole_ || peer_->reads_all_input();
  // Whoever answers the next request has what came of that, so what was lent lies elsewhere by then.
  keep_lent();
  const bool is_all_taken = unread_.empty() || peer_->takes_more(unread_);
  over(has_all_input && is_all_read && is_all_taken ? FastCgiPeer::Left::clean : FastCgiPeer::Left::spoilt);
}

void FastCgiRun::was_cut(const boost::system::error_code& error) {
  // So the system tells of a connection that was closed with something in it.
  is_unread_ = error == asio::error::connection_reset;
  is_cut_ = true;
  Process* const process = peer_->process();
  if (process == nullptr || process->has_ended()) return settle();
  terminate_at_ = std::min(terminate_at_, Clock::now() + kEndAfterCut);
  set_.look_by(terminate_at_);
}

void FastCgiRun::process_ended() {
  if (has_ended()) return;
  is_process_gone_ = true;
  // For lack of memory there may be nobody who reads for one that was stopped.
  is_cut_ = is_cut_ || (is_stopped_ && !is_reading_);
  if (is_cut_) return settle();
  if (is_reading_) wake();
}

void FastCgiRun::fail(Finding finding) {
  failure_ = std::move(finding);
  is_cut_ = true;
  terminate();
}

void FastCgiRun::terminate() {
  terminate_at_ = Clock::time_point::max();
  if (!peer_) return;
  const auto peer = peer_;
  peer->terminate();
  if (peer->process() == nullptr || peer->process()->has_ended()) {
    is_cut_ = true;
    return settle();
  }
  set_.look_by(peer->look(Clock::now()));
}

bool FastCgiRun::may_begin_again() const {
  // Nobody ends behind an answer in the first run: there what was left unread may be the end of the input alone.
  const bool is_known_unread = peer_ && (peer_->ends_between_runs() || (is_unread_ && peer_->number_of_run() > 1));
  return others_ && is_whole_ && is_known_unread && !has_answered_ && !failure_ && !is_stopped_ && !was_too_slow_ &&
         !was_over_time_;
}

bool FastCgiRun::begin_again() {
  const auto others = std::exchange(others_, nullptr);
  const auto last = std::exchange(peer_, nullptr);
  last->when_ended(nullptr);
  last->give_back(FastCgiPeer::Left::spoilt);
  const auto next = others->take_free();
  // Without another one the end of this one is all there is to tell.
  if (!next) return false;
  peer_ = next;
  request_ = next->next_request();
  reader_ = fastcgi::AnswerReader(request_);
  fastcgi::address(text_, request_, next->then());
  sent_ = 0;
  if (!send_now()) return false;
  watch_peer();
  is_cut_ = is_process_gone_ = is_unread_ = false;
  unread_ = {};
  terminate_at_ = Clock::time_point::max();
  if (!unsent().empty()) flush_meanwhile();
  patience_.cancel();
  return true;
}

void FastCgiRun::settle() {
  if (may_begin_again() && peer_->process() != nullptr && peer_->process()->has_ended() &&
      peer_->process()->end().exit_status == 0) {
    if (begin_again()) return;
    if (!peer_) {
      // Nobody has it any more.
      failure_ = Finding{Code::fastcgi_closed, {{"program", "The interpreter"}}};
      end_of_run();
      return;
    }
  }
  Process* const process = peer_->process();
  take_error_text();
  if (process != nullptr && process->has_ended()) {
    end_.exit_status = process->end().exit_status;
    end_.signal = process->end().signal;
    end_.peak_memory_kib = process->end().peak_memory_kib;
  }
  if (was_over_time_) end_ = {std::nullopt, SIGXCPU};
  const bool is_explained = failure_ || was_too_slow_ || end_.signal || is_stopped_;
  if (!is_explained && process != nullptr && !has_answered_ && peer_->is_first_run()) {
    failure_ = Finding{Code::kept_not_answering,
                       {{"program", peer_->name()}, {"status", std::to_string(end_.exit_status.value_or(0))}}};
    if (const auto last = script::last_lines(error_text_.text(), 1); !last.empty())
      failure_->facts.emplace_back("last", last.back());
  } else if (!is_explained && end_.exit_status.value_or(0) == 0) {
    failure_ = Finding{Code::fastcgi_closed, {{"program", peer_->name()}}};
  }
  over(FastCgiPeer::Left::spoilt);
}

void FastCgiRun::over(FastCgiPeer::Left left) {
  take_error_text();
  if (is_measured_) {
    end_.processor_time = std::chrono::duration_cast<std::chrono::microseconds>(peer_->processor_time());
  } else {
    peer_->skip_processor_time();
  }
  if (is_reading_ || is_writing_) wake();
  // What was read and not asked for yet lies in the peer's memory.
  kept_output_ = left_over_;
  left_over_ = kept_output_;
  keep_lent();
  const auto peer = std::exchange(peer_, nullptr);
  peer->when_ended(nullptr);
  // Before all else: others may wait for it.
  peer->give_back(left);
  end_of_run();
}

void FastCgiRun::end_of_run() {
  error_text_.finish();
  end_.duration = std::chrono::duration_cast<std::chrono::microseconds>(Clock::now() - begun_);
  when_long_ = nullptr;
  note_long_ = nullptr;
  others_.reset();
  ticket_.reset();
  noted_.reset();
  patience_.cancel();
  const auto self = shared_from_this();
  ended_.set();
  set_.remove(*this);
}

void FastCgiRun::wake() {
  boost::system::error_code ignored;
  peer_->connection().cancel(ignored);
}

void FastCgiRun::stop() {
  if (has_ended() || is_stopped_) return;
  is_stopped_ = true;
  if (!is_connected()) return;
  terminate_at_ = std::min(terminate_at_, Clock::now() + kEndAfterStop);
  set_.look_by(terminate_at_);
  if (is_reading_) return;
  asio::co_spawn(executor_, drain(), [self = shared_from_this()](const std::exception_ptr&) {});
}

void FastCgiRun::set_deadline(Clock::time_point time) {
  if (has_ended()) return;
  deadline_ = time;
  set_.look_by(time);
}

std::optional<std::chrono::nanoseconds> FastCgiRun::work_so_far() {
  Process* const process = peer_ ? peer_->process() : nullptr;
  if (process == nullptr || process->has_ended() || !process->is_computing()) return std::nullopt;
  return process->processor_time();
}

bool FastCgiRun::has_written_errors() {
  take_error_text();
  return !error_text_.is_empty();
}

asio::awaitable<bool> FastCgiRun::ended_by(Clock::time_point time) {
  const auto self = shared_from_this();
  std::array<char, 1024> scratch;
  // The end comes over the same connection, so somebody has to read for it.
  while (!has_ended() && !is_cut_ && !is_reading_ && Clock::now() < time) {
    has_output_ended_ = false;
    co_await read_by(scratch, time);
  }
  co_await ended_.wait_until(time);
  co_return has_ended();
}

asio::awaitable<ProcessEnd> FastCgiRun::end() {
  const auto self = shared_from_this();
  co_await ended_by(Clock::time_point::max());
  co_return end_;
}

}  // namespace porter::run
