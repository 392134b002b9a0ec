// The life of a run over FastCGI: handed over, looked at from time to time, read. See run.hpp; its ends are in
// run_end.cpp.
#include "run/fastcgi/run.hpp"

#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <boost/asio/co_spawn.hpp>
#include <cerrno>
#include <cstring>
#include <exception>
#include <new>
#include <utility>

namespace porter::run {
namespace {

/// With less of it, other memory is read into.
constexpr std::size_t kLeastRoom = 64 * 1024;
constexpr std::chrono::seconds kOrphansOfKept{1};

/// As recvmsg(), with the process that has sent what was read, which is of one only; 0: unknown.
ssize_t receive_from(int socket, std::span<char> room, pid_t& sender) {
  iovec piece{room.data(), room.size()};
  alignas(cmsghdr) std::array<char, CMSG_SPACE(sizeof(ucred))> control;
  msghdr message{};
  message.msg_iov = &piece;
  message.msg_iovlen = 1;
  message.msg_control = control.data();
  message.msg_controllen = control.size();
  ssize_t got = 0;
  do got = ::recvmsg(socket, &message, MSG_DONTWAIT | MSG_CMSG_CLOEXEC);
  while (got < 0 && errno == EINTR);
  const cmsghdr* const told = got > 0 ? CMSG_FIRSTHDR(&message) : nullptr;
  if (told == nullptr || told->cmsg_level != SOL_SOCKET || told->cmsg_type != SCM_CREDENTIALS) return got;
  ucred credentials{};
  std::memcpy(&credentials, CMSG_DATA(told), sizeof credentials);
  sender = credentials.pid;
  return got;
}

}  // namespace

std::shared_ptr<FastCgiRun> FastCgiRun::begin(const asio::any_io_executor& executor, RunSet& set,
                                              const std::shared_ptr<FastCgiPeer>& peer, Order& order) {
  auto run = std::make_shared<FastCgiRun>(Begun(), executor, set, peer, order);
  if (!order.sent && !run->input_.send_now()) {
    order.request = run->input_.take_records();
    run->peer_.reset();
    return nullptr;
  }
  run->others_ = std::move(order.others);
  run->ticket_ = std::move(order.ticket);
  run->watch_peer();
  set.add(run);
  try {
    if (run->input_.is_whole()) run->input_.flush_meanwhile(run);
    if (order.sent) {
      run->read_output();
    } else {
      run->await_output();
    }
    if (order.input == InputKind::file) {
      asio::co_spawn(executor, run->feed_file(std::move(order.input_file)), [run](const std::exception_ptr& failure) {
        if (failure) run->stop();
      });
    }
  } catch (const std::bad_alloc&) {
    run->end_for(Why::failed);
    set.remove(*run);  // Nobody would give it an end.
    throw;
  }
  return run;
}

FastCgiRun::FastCgiRun(Begun, const asio::any_io_executor& executor, RunSet& set, std::shared_ptr<FastCgiPeer> peer,
                       Order& order)
    : set_(set),
      executor_(executor),
      peer_(std::move(peer)),
      reader_(order.sent ? order.sent->request : peer_->next_request()),
      input_(std::move(order.request), order.input == InputKind::nothing),
      output_(executor),
      error_text_(order.error_stream_limit),
      ended_(executor),
      is_measured_(order.is_measured),
      processor_time_allowed_(order.processor_time) {
  input_.begin(peer_, reader_.request(), order.sent ? order.sent->bytes : 0);
  if (processor_time_allowed_.count() > 0 && peer_->process() != nullptr)
    computed_look_ = begun_ + processor_time_allowed_;
}

FastCgiRun::~FastCgiRun() {
  if (peer_) peer_->when_ended(nullptr);
}

void FastCgiRun::watch_peer() {
  peer_->when_ended([this] {
    const auto self = shared_from_this();
    process_ended();
  });
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

void FastCgiRun::response_has_begun(bool is_stream) {
  if (has_ended()) return;
  streams_at_ = begun_ + (is_stream ? std::chrono::seconds(0) : kStreamsAfter);
  set_.look_by(streams_at_);
}

void FastCgiRun::set_deadline(Clock::time_point time) {
  if (has_ended()) return;
  deadline_ = time;
  set_.look_by(time);
}

Clock::time_point FastCgiRun::look(Clock::time_point now) {
  const auto self = shared_from_this();
  const auto next = look_at_times(now);
  output_.wake();
  return next;
}

Clock::time_point FastCgiRun::look_at_times(Clock::time_point now) {
  if (has_ended()) return Clock::time_point::max();
  if (now < begun_ + kShortRun) return begun_ + kShortRun;
  if (const auto then = std::exchange(when_long_, nullptr)) then();
  if (const auto note = std::exchange(note_long_, nullptr)) {
    noted_ = note();
    if (noted_ && peer_ && peer_->process() != nullptr) noted_->set_process(peer_->process()->id());
  }
  set_.look_for_orphans(kOrphansOfKept);
  if (now >= deadline_ && is_waiting_for_room_) {
    // Its client is slow, and not the script.
    deadline_ = Clock::time_point::max();
  } else if (now >= deadline_) {
    deadline_ = Clock::time_point::max();
    end_for(Why::too_slow);
  } else if (now >= terminate_at_) {
    // It has closed its connection, and lives on.
    if (state_ == State::cut && why_ended_ == Why::not_at_all && !failure_)
      failure_ = Finding{Code::fastcgi_closed, {{"program", peer_->name()}}};
    terminate();
  }
  if (!has_ended()) look_at_processor_time(now);
  if (!has_ended() && now >= streams_at_) gives_slot_back();
  if (has_ended()) return Clock::time_point::max();
  const auto next = std::min({deadline_, terminate_at_, computed_look_, streams_at_});
  return peer_ ? std::min(next, peer_->look(now)) : next;
}

void FastCgiRun::look_at_processor_time(Clock::time_point now) {
  if (computed_look_ == Clock::time_point::max()) return;
  const auto used = peer_->process()->processor_time().value_or(std::chrono::nanoseconds(0));
  if (work_before_.count() == 0) work_before_ = used;
  if (now < computed_look_) return;
  computed_look_ = now + std::max<Clock::duration>(processor_time_allowed_ - (used - work_before_), kShortRun);
  if (used - work_before_ >= processor_time_allowed_) end_for(Why::computed_too_long);
}

void FastCgiRun::gives_slot_back() {
  streams_at_ = Clock::time_point::max();
  if (!peer_) return;
  if (noted_) noted_->give_slot_back();
  if (ticket_) ticket_->give_slot_back();
  peer_->only_streams();
}

asio::awaitable<bool> FastCgiRun::write(std::string_view data) {
  const auto self = shared_from_this();
  auto writing = input_.write(data);
  const bool is_taken = co_await std::move(writing);
  co_return is_taken;
}

asio::awaitable<void> FastCgiRun::feed_file(files::Descriptor file) {
  const auto self = shared_from_this();
  constexpr std::size_t kPiece = 64 * 1024;
  const auto piece = std::make_unique_for_overwrite<char[]>(kPiece);
  for (bool is_taken = true; is_taken;) {
    const ssize_t got = ::read(file.get(), piece.get(), kPiece);
    if (got < 0 && errno == EINTR) continue;
    if (got <= 0) break;
    is_taken = co_await write({piece.get(), static_cast<std::size_t>(got)});
  }
  close_input();
}

void FastCgiRun::await_output() {
  // The peer stays for as long as its connection is waited for.
  peer_->connection().async_wait(asio::posix::stream_descriptor::wait_read,
                                 [self = shared_from_this(), peer = peer_](const boost::system::error_code&) {
                                   // Another one may have been asked meanwhile.
                                   if (self->peer_ == peer && self->state_ == State::at_work) self->read_output();
                                 });
}

ssize_t FastCgiRun::receive() {
  auto& memory = peer_->read_ahead();
  // Of a header that has come in part, that part is kept, and more is read behind it.
  const bool is_held = memory.use_count() > 1;
  if (!memory || !is_held || kReadMemory - used_ < kLeastRoom) {
    const std::string before(unread_);
    if (!memory || is_held) memory = read_memory();
    std::copy(before.begin(), before.end(), memory.get());
    unread_ = {memory.get(), before.size()};
    used_ = before.size();
  }
  pid_t sender = 0;
  const std::span<char> room(memory.get() + used_, kReadMemory - used_);
  const ssize_t got = receive_from(peer_->connection().native_handle(), room, sender);
  if (got <= 0) return got;
  const auto size = static_cast<std::size_t>(got);
  if (!peer_->is_own_word(sender, Clock::now() - begun_)) {
    take_in_of_copy(sender, {room.data(), size});
    return got;
  }
  unread_ = {room.data() - unread_.size(), unread_.size() + size};
  used_ += size;
  return got;
}

void FastCgiRun::take_in_of_copy(pid_t sender, std::string_view bytes) {
  auto copy = std::find_if(copies_.begin(), copies_.end(), [&](const Copy& one) { return one.id == sender; });
  if (copy == copies_.end()) copy = copies_.insert(copies_.end(), {sender, fastcgi::ResponseReader(reader_.request())});
  if (copy->has_ended) return;
  // What was read lies where the next piece is read to.
  const std::string all = std::exchange(copy->unread, {}) + std::string(bytes);
  const auto memory = std::make_shared<char[]>(all.size());
  std::copy(all.begin(), all.end(), memory.get());
  std::string_view unread(memory.get(), all.size());
  using Kind = fastcgi::ResponseReader::Part::Kind;
  while (const auto part = copy->reader.next(unread)) {
    copy->has_ended = part->kind == Kind::end_of_request || part->kind == Kind::broken;
    if (copy->has_ended) return;
    if (part->kind == Kind::error) error_text_.add(part->content);
    if (part->kind != Kind::output) continue;
    has_answered_ = true;
    output_.add(part->content, memory);
  }
  copy->unread = unread;
}

void FastCgiRun::read_output() {
  const auto self = shared_from_this();
  try {
    const ssize_t got = receive();
    const int error = got < 0 ? errno : 0;
    if (got > 0) {
      take_in();
    } else if (error != EAGAIN) {
      // So the system tells of a connection that was closed with something in it.
      was_cut(error == ECONNRESET);
    }
    is_waiting_for_room_ = state_ == State::at_work && output_.is_full();
    if (state_ == State::at_work && !is_waiting_for_room_) await_output();
  } catch (const std::bad_alloc&) {
    is_lost_ = true;  // As whoever reads is told.
    output_.drop();
    output_.close();
    end_for(Why::failed);
  }
  output_.wake();
}

void FastCgiRun::take_in() {
  while (state_ != State::over) {
    const auto part = reader_.next(unread_);
    if (!part) return;
    take_in(*part);
    if (part->kind == fastcgi::ResponseReader::Part::Kind::broken) return;
  }
}

void FastCgiRun::take_in(const fastcgi::ResponseReader::Part& part) {
  using Kind = fastcgi::ResponseReader::Part::Kind;
  switch (part.kind) {
    case Kind::output:
      note_answer();
      return output_.add(part.content, peer_->read_ahead());
    case Kind::end_of_output:
      add_printed_text();
      return output_.close();
    case Kind::error:
      note_answer();
      return error_text_.add(part.content);
    case Kind::end_of_request:
      return finish();
    case Kind::broken:
      return fail({Code::fastcgi_broken, {{"problem", reader_.problem()}, {"program", peer_->name()}}});
  }
}

void FastCgiRun::note_answer() {
  if (std::exchange(has_answered_, true)) return;
  peer_->note_first_word();
}

void FastCgiRun::add_printed_text() {
  const std::string text = peer_->take_output_text();
  if (text.empty() || !has_answered_) return error_text_.add(text);
  const auto memory = std::make_shared<char[]>(text.size());
  std::copy(text.begin(), text.end(), memory.get());
  output_.add({memory.get(), text.size()}, memory);
}

void FastCgiRun::go_on_reading() {
  // Not piece by piece.
  if (!is_waiting_for_room_ || output_.size() > HeldOutput::kMost / 2) return;
  is_waiting_for_room_ = false;
  if (state_ == State::at_work) await_output();
}

void FastCgiRun::take_error_text() {
  if (peer_) error_text_.add(peer_->take_error_text());
}

asio::awaitable<std::optional<std::size_t>> FastCgiRun::read_by(std::span<char> buffer, Clock::time_point time) {
  const auto self = shared_from_this();
  if (!output_.has_come()) {
    auto coming = output_.come_by(time);
    co_await std::move(coming);
  }
  if (is_lost_) throw std::bad_alloc();
  if (!output_.has_come()) co_return std::nullopt;
  const std::size_t taken = output_.take(buffer);
  go_on_reading();
  co_return taken;
}

asio::awaitable<std::size_t> FastCgiRun::read(std::span<char> buffer) {
  const auto taken = co_await read_by(buffer, Clock::time_point::max());
  co_return taken.value_or(0);
}

asio::awaitable<void> FastCgiRun::read_pieces(std::span<char>, Pieces& pieces) {
  const auto self = shared_from_this();
  if (!output_.has_come()) {
    auto coming = output_.come_by(Clock::time_point::max());
    co_await std::move(coming);
  }
  if (is_lost_) throw std::bad_alloc();
  output_.take(pieces);
  go_on_reading();
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
  if (has_ended()) co_return true;
  const auto self = shared_from_this();
  // What follows is for nobody, and must not keep the end away.
  output_.drop();
  go_on_reading();
  co_await ended_.wait_until(time);
  co_return has_ended();
}

asio::awaitable<ProcessEnd> FastCgiRun::end() {
  const auto self = shared_from_this();
  if (!has_ended()) co_await ended_by(Clock::time_point::max());
  co_return end_;
}

}  // namespace porter::run
