// The ways in which a run over FastCGI ends: by its program's word, by its connection's or its process's end, by us.
// See run.hpp.
#include <sys/socket.h>

#include <algorithm>
#include <cerrno>
#include <csignal>
#include <iterator>
#include <new>
#include <utility>

#include "core/script/judge.hpp"
#include "run/fastcgi/run.hpp"

namespace porter::run {
namespace {

/// A run that nobody wants any more mostly ends by itself, and so its process need not be replaced.
constexpr std::chrono::milliseconds kEndAfterStop{100};
/// A process that crashes closes its connections a moment before it has ended.
constexpr std::chrono::milliseconds kEndAfterCut{100};

/// How often a request is handed to another process since the one before has ended by itself.
constexpr int kMostAttempts = 4;

/// True for signals that programs do not bring on themselves by what is wrong with them.
bool is_from_outside(int signal) {
  constexpr int kAll[] = {SIGTERM, SIGHUP, SIGINT, SIGALRM, SIGVTALRM, SIGPROF, SIGUSR1, SIGUSR2};
  return std::find(std::begin(kAll), std::end(kAll), signal) != std::end(kAll);
}

/// What a program says of its refusal.
std::string_view reason_of(fastcgi::ResponseReader::End::Protocol protocol) {
  using Protocol = fastcgi::ResponseReader::End::Protocol;
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

void FastCgiRun::finish() {
  using Protocol = fastcgi::ResponseReader::End::Protocol;
  // Not all say that their output is over; the end of the request says so as well.
  if (!output_.is_closed()) add_printed_text();
  const auto& end = reader_.end();
  if (end.protocol != Protocol::complete)
    failure_ =
        Finding{Code::fastcgi_refused, {{"reason", std::string(reason_of(end.protocol))}, {"program", peer_->name()}}};
  // Most programs say 0 whatever has happened, so that says nothing.
  if (end.status != 0) end_.exit_status = static_cast<int>(end.status);
  const bool is_all_read = input_.is_done() && (input_.is_whole() || peer_->reads_all_input()) && unread_.empty();
  if (!copies_.empty()) return over(FastCgiPeer::Reusable::no);
  over(is_all_read && !is_left_ ? FastCgiPeer::Reusable::yes : FastCgiPeer::Reusable::on_new_connection);
}

void FastCgiRun::was_cut(bool is_unread) {
  is_unread_ = is_unread;
  state_ = State::cut;
  Process* const process = peer_->process();
  if (process == nullptr || process->has_ended()) return settle();
  terminate_at_ = std::min(terminate_at_, Clock::now() + kEndAfterCut);
  set_.look_by(terminate_at_);
}

void FastCgiRun::process_ended() {
  const auto self = shared_from_this();
  // What lies there is all, even where something that it has started holds the connection open.
  while (state_ == State::at_work) {
    const ssize_t got = receive();
    is_unread_ = got < 0 && errno == ECONNRESET;
    if (got <= 0) break;
    take_in();
  }
  if (state_ == State::at_work || state_ == State::unread) state_ = State::cut;
  if (state_ == State::cut) settle();
  output_.wake();
}

void FastCgiRun::fail(Finding finding) {
  failure_ = std::move(finding);
  end_for(Why::failed);
}

void FastCgiRun::end_for(Why why) {
  if (why_ended_ == Why::not_at_all || why_ended_ == Why::stopped) why_ended_ = why;
  terminate();
}

void FastCgiRun::terminate() {
  terminate_at_ = Clock::time_point::max();
  if (state_ == State::between) return end_of_run();
  if (!peer_) return;
  const auto peer = peer_;
  peer->terminate();
  if (peer->process() != nullptr && !peer->process()->has_ended()) return set_.look_by(peer->look(Clock::now()));
  if (state_ == State::at_work || state_ == State::unread) state_ = State::cut;
  if (state_ == State::cut) settle();
}

bool FastCgiRun::may_begin_again() const {
  if (!others_ || !input_.is_whole() || has_answered_ || failure_ || why_ended_ != Why::not_at_all) return false;
  const Process* const process = peer_->process();
  if (process == nullptr || !process->has_ended() || attempts_ == kMostAttempts) return false;
  // Somebody else has ended it, or an alarm that was meant for the run before.
  if (const auto signal = process->end().signal; signal && is_from_outside(*signal)) return true;
  // Nobody ends behind a response in the first run: there what was left unread may be the end of the input alone.
  const bool is_left_unread = is_unread_ && peer_->number_of_run() > 1;
  if (is_left_unread && peer_->reads_before_it_answers()) return true;
  return (peer_->ends_between_runs() || is_left_unread) && process->end().exit_status == 0;
}

void FastCgiRun::begin_again() {
  ++attempts_;
  const auto last = std::exchange(peer_, nullptr);
  state_ = State::between;
  is_unread_ = false;
  used_ = 0;
  copies_.clear();
  unread_ = {};
  terminate_at_ = computed_look_ = Clock::time_point::max();
  last->when_ended(nullptr);
  last->give_back(FastCgiPeer::Reusable::on_new_connection);
  others_->ask([self = shared_from_this()](const std::shared_ptr<FastCgiPeer>& next) { self->go_on_with(next); });
}

void FastCgiRun::go_on_with(const std::shared_ptr<FastCgiPeer>& next) {
  const auto self = shared_from_this();
  if (state_ != State::between) return;
  peer_ = next;
  bool is_sent = false;
  if (next) {
    reader_ = fastcgi::ResponseReader(next->next_request());
    input_.begin(next, reader_.request(), 0);
    is_sent = input_.send_now();
  }
  if (is_sent) {
    state_ = State::at_work;
    watch_peer();
    input_.flush_meanwhile(weak_from_this());
    return await_output();
  }
  if (next && attempts_ < kMostAttempts) {
    // It had just gone as well.
    ++attempts_;
    std::exchange(peer_, nullptr)->give_back(FastCgiPeer::Reusable::on_new_connection);
    return others_->ask([self](const std::shared_ptr<FastCgiPeer>& another) { self->go_on_with(another); });
  }
  // Nobody has read it, and nobody will.
  failure_ = Finding{Code::fastcgi_closed, {{"program", "The interpreter"}}};
  if (const auto peer = std::exchange(peer_, nullptr)) peer->give_back(FastCgiPeer::Reusable::on_new_connection);
  end_of_run();
  output_.wake();
}

void FastCgiRun::settle() {
  if (may_begin_again()) return begin_again();
  const Process* const process = peer_->process();
  take_error_text();
  if (process != nullptr && process->has_ended()) {
    end_.exit_status = process->end().exit_status;
    end_.signal = process->end().signal;
    end_.peak_memory_kib = process->end().peak_memory_kib;
  }
  if (why_ended_ == Why::computed_too_long) end_ = {std::nullopt, SIGXCPU};
  const bool is_explained = failure_ || end_.signal || why_ended_ != Why::not_at_all;
  if (!is_explained && process != nullptr && !has_answered_ && peer_->is_first_run() && is_unread_) {
    failure_ = Finding{Code::persistent_not_answering,
                       {{"program", peer_->name()},
                        {"fresh_setting", peer_->fresh_setting()},
                        {"status", std::to_string(end_.exit_status.value_or(0))}}};
    if (const auto last = script::last_lines(error_text_.text(), 1); !last.empty())
      failure_->facts.emplace_back("last", last.back());
  } else if (!is_explained && end_.exit_status.value_or(0) == 0) {
    failure_ = Finding{Code::fastcgi_closed, {{"program", peer_->name()}}};
  }
  over(FastCgiPeer::Reusable::on_new_connection);
}

void FastCgiRun::over(FastCgiPeer::Reusable reusable) {
  take_error_text();
  if (is_measured_) {
    end_.processor_time = std::chrono::duration_cast<std::chrono::microseconds>(peer_->processor_time());
  } else {
    peer_->skip_processor_time();
  }
  input_.break_off();
  try {
    if (reusable == FastCgiPeer::Reusable::yes) left_running_ = peer_->what_it_left();
  } catch (const std::bad_alloc&) {
    reusable = FastCgiPeer::Reusable::no;
  }
  // What is held of it lies there.
  if (peer_->read_ahead().use_count() > 1) peer_->read_ahead().reset();
  const auto peer = std::exchange(peer_, nullptr);
  peer->when_ended(nullptr);
  // Before all else: others may wait for it.
  peer->give_back(reusable);
  end_of_run();
}

void FastCgiRun::end_of_run() {
  const auto self = shared_from_this();
  state_ = State::over;
  error_text_.finish();
  end_.duration = std::chrono::duration_cast<std::chrono::microseconds>(Clock::now() - begun_);
  when_long_ = nullptr;
  note_long_ = nullptr;
  others_.reset();
  ticket_.reset();
  noted_.reset();
  output_.close();
  ended_.set();
  set_.remove(*this);
}

void FastCgiRun::client_left() {
  const auto self = shared_from_this();
  if (has_ended() || why_ended_ != Why::not_at_all || is_left_) return;
  // Of a request that was not sent whole, or not read yet, nothing is to come.
  if (state_ != State::at_work || !input_.is_done()) return stop();
  is_left_ = true;
  is_waiting_for_room_ = false;
  output_.drop();
  // Those that others have started are told by the end of the connection, and are theirs to end.
  if (peer_->process() == nullptr) {
    output_.close();
    over(FastCgiPeer::Reusable::on_new_connection);
    return output_.wake();
  }
  // What it wrote before may have its last word.
  while (state_ == State::at_work && receive() > 0) take_in();
  output_.close();
  output_.wake();
  if (state_ != State::at_work) return;
  state_ = State::unread;
  // From here on what it writes is refused by the system.
  try {
    if (!peer_->knock()) return end_for(Why::failed);
    peer_->connection().async_wait(asio::posix::stream_descriptor::wait_read,
                                   [self, peer = peer_](const boost::system::error_code&) {
                                     if (self->peer_ != peer || self->state_ != State::unread) return;
                                     self->over(FastCgiPeer::Reusable::on_new_connection);
                                   });
  } catch (const std::bad_alloc&) {
    end_for(Why::failed);  // Nobody would be told when it has finished.
  }
}

void FastCgiRun::stop() {
  if (has_ended() || why_ended_ != Why::not_at_all) return;
  why_ended_ = Why::stopped;
  output_.drop();
  go_on_reading();
  if (state_ == State::cut || state_ == State::over) return;
  terminate_at_ = std::min(terminate_at_, Clock::now() + kEndAfterStop);
  set_.look_by(terminate_at_);
}

}  // namespace porter::run
