// A run's streams, its end and its time limit. See run.hpp.
#include "run/fresh/run.hpp"

#include <fcntl.h>
#include <sched.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <boost/asio/buffer.hpp>
#include <cerrno>
#include <csignal>
#include <new>
#include <utility>

#include "core/files/pipe.hpp"

namespace porter::run {
namespace {

/// A run's end leaves orphans behind rarely, and looking for them costs more than the end itself, so the looks of many
/// runs are one.
constexpr std::chrono::milliseconds kOrphansAfterEnd{20};
constexpr std::chrono::seconds kOrphansOfLongRuns{1};

/// The server's end of a pipe; the script's end does block, as programs expect.
void assign(asio::posix::stream_descriptor& stream, files::Descriptor end) {
  stream.assign(end.release());
  stream.native_non_blocking(true);
}

/// What an asynchronous read has come to: the bytes, or 0 at the end of the output; nullopt: it was told to wait no
/// longer.
std::optional<std::size_t> after_read(const boost::system::error_code& error, std::size_t got) {
  if (!error) return got;
  if (error == asio::error::operation_aborted) return std::nullopt;
  return 0;
}

}  // namespace

void RunSet::terminate_all() {
  // One that ends at once leaves the set.
  const auto runs = runs_;
  for (const auto& run : runs) run->stop();
}

void RunSet::add(std::shared_ptr<TimedSource> run) {
  look_by(Clock::now() + kShortRun);
  runs_.push_back(std::move(run));
}

void RunSet::remove(const TimedSource& run) {
  const auto found = std::find_if(runs_.begin(), runs_.end(), [&](const auto& other) { return other.get() == &run; });
  if (found == runs_.end()) return;
  std::swap(*found, runs_.back());
  runs_.pop_back();
  // A look that is due soon may come all the same: the next run would only ask for it again.
  if (!runs_.empty() || orphans_look_ != Clock::time_point::max() || next_look_ <= Clock::now() + kShortRun) return;
  next_look_ = Clock::time_point::max();
  alarm_.cancel();
}

void RunSet::look_for_orphans(Clock::duration after) {
  const auto soon = Clock::now() + after;
  if (orphans_look_ <= soon) return;
  siginfo_t info{};
  if (::waitid(P_ALL, 0, &info, WEXITED | WNOHANG | WNOWAIT) != 0) return;
  orphans_look_ = soon;
  look_by(orphans_look_);
}

void RunSet::look_by(Clock::time_point time) {
  if (time >= next_look_) return;
  // Where it cannot be set, the next run sets it.
  next_look_ = alarm_.set(time, [this] { look(); }) ? time : Clock::time_point::max();
}

void RunSet::look() {
  next_look_ = Clock::time_point::max();
  const auto now = Clock::now();
  auto next = Clock::time_point::max();
  try {
    const auto runs = runs_;
    for (const auto& run : runs) next = std::min(next, run->look(now));
    if (now >= orphans_look_) {
      orphans_look_ = now + kOrphansAfterEnd;
      const bool is_any_left = end_orphans();
      // A run that lasts may leave orphans all the while, which want to be reaped when they end.
      if (!is_any_left) orphans_look_ = runs_.empty() ? Clock::time_point::max() : now + kOrphansOfLongRuns;
    }
  } catch (const std::bad_alloc&) {
    next = now + kShortRun;  // Deadlines must not be lost with the memory.
  }
  look_by(std::min(next, orphans_look_));
}

std::variant<std::shared_ptr<Run>, StartError> Run::start(const asio::any_io_executor& executor, RunSet& set,
                                                          RunOrder order) {
  files::Pipe input;
  files::Pipe output;
  files::Pipe error;
  if (!files::make_pipe(output) || !files::make_pipe(error) ||
      (order.input == InputKind::pipe && !files::make_pipe(input)))
    return StartError{StartError::Step::resources, errno};
  StartOrder start;
  start.program = std::move(order.program);
  start.arguments = std::move(order.arguments);
  start.environment = std::move(order.environment);
  start.folder = std::move(order.folder);
  start.input = order.input == InputKind::file ? order.input_file.get() : input.read_end.get();
  start.output = output.write_end.get();
  start.error = error.write_end.get();
  start.limits = std::move(order.limits);
  start.leaves_running = order.leaves_running;
  auto started = Process::start(std::move(start));
  if (const auto* const failure = std::get_if<StartError>(&started)) return *failure;

  // The constructor is private, which std::make_shared cannot reach.
  std::shared_ptr<Run> run(new Run(executor, set, std::get<std::unique_ptr<Process>>(std::move(started)), order));
  if (input.write_end.is_open()) assign(run->input_, std::move(input.write_end));
  assign(run->output_, std::move(output.read_end));
  ::fcntl(error.read_end.get(), F_SETFL, O_NONBLOCK);
  run->error_ = std::move(error.read_end);
  set.add(run);
  return run;
}

Run::Run(const asio::any_io_executor& executor, RunSet& set, std::unique_ptr<Process> process, RunOrder& order)
    : set_(set),
      process_(std::move(process)),
      input_(executor),
      output_(executor),
      patience_(executor),
      ended_(executor),
      error_text_(order.error_stream_limit),
      ticket_(std::move(order.ticket)) {
  if (ticket_) ticket_->set_process(process_->id());
}

void Run::when_long(std::function<void()> then) {
  if (has_ended()) return;
  when_long_ = std::move(then);
  set_.look_by(process_->begun() + kShortRun);
}

void Run::response_has_begun(bool is_stream) {
  if (has_ended() || !ticket_) return;
  streams_at_ = process_->begun() + (is_stream ? std::chrono::seconds(0) : kStreamsAfter);
  set_.look_by(streams_at_);
}

Clock::time_point Run::look(Clock::time_point now) {
  if (has_ended()) return Clock::time_point::max();
  if (now < process_->begun() + kShortRun) return process_->begun() + kShortRun;
  watch();
  if (const auto then = std::exchange(when_long_, nullptr)) then();
  if (now >= deadline_) {
    deadline_ = Clock::time_point::max();
    was_too_slow_ = true;
    stop();
  }
  if (now >= streams_at_) {
    streams_at_ = Clock::time_point::max();
    ticket_->give_slot_back();
  }
  const auto kill_time = process_->look(now);
  if (!watched_) {
    error_text_.read_from(error_.get());
    return reap() ? Clock::time_point::max() : now + kShortRun;
  }
  return std::min({deadline_, kill_time, streams_at_});
}

void Run::watch() {
  if (watched_ || has_ended()) return;
  files::Descriptor process = process_->watch();
  files::Descriptor error(::fcntl(error_.get(), F_DUPFD_CLOEXEC, 3));
  if (!process.is_open() || !error.is_open()) return;  // Until there are descriptors again, look() does the watching.
  const auto executor = output_.get_executor();
  watched_ = Watched{asio::posix::stream_descriptor(executor, process.release()),
                     asio::posix::stream_descriptor(executor, error.release())};
  await_end();
  await_error_text();
}

void Run::await_end() {
  watched_->process.async_wait(asio::posix::stream_descriptor::wait_read,
                               [self = shared_from_this()](const boost::system::error_code& error) {
                                 if (!error && !self->reap()) self->await_end();
                               });
}

void Run::await_error_text() {
  if (has_ended() || !error_text_.read_from(error_.get())) return;
  watched_->error.async_wait(asio::posix::stream_descriptor::wait_read,
                             [self = shared_from_this()](const boost::system::error_code& error) {
                               if (!error) self->await_error_text();
                             });
}

std::optional<std::chrono::nanoseconds> Run::work_so_far() {
  if (has_ended() || !process_->is_computing()) return std::nullopt;
  return process_->processor_time();
}

bool Run::has_written_errors() {
  if (!has_ended()) error_text_.read_from(error_.get());
  return !error_text_.is_empty();
}

bool Run::reap() {
  if (has_ended()) return true;
  if (!process_->reap()) return false;
  // A process that has left the group may hold the pipe open and write on. That is not waited for.
  try {
    error_text_.read_from(error_.get());
  } catch (const std::bad_alloc&) {
    // Less of it is told then; the run has ended all the same.
  }
  error_text_.finish();
  ticket_.reset();
  when_long_ = nullptr;
  ended_.set();
  // Nor is it waited for by whoever reads the output: what lies in the pipe is all.
  if (output_.is_open()) output_.cancel();
  if (input_.is_open()) input_.cancel();
  if (watched_) watched_->error.cancel();
  set_.look_for_orphans(kOrphansAfterEnd);
  set_.remove(*this);
  return true;
}

std::optional<std::size_t> Run::read_now(std::span<char> buffer) {
  ssize_t got = 0;
  do got = ::read(output_.native_handle(), buffer.data(), buffer.size());
  while (got < 0 && errno == EINTR);
  if (got < 0 && errno == EAGAIN) return std::nullopt;
  return static_cast<std::size_t>(std::max<ssize_t>(got, 0));
}

void Run::output_is_over() {
  if (reap()) return;
  // A process closes its output a moment before it has ended. On a processor that it shares with this thread it has to
  // be given that moment; having it watched for so short a time costs more.
  ::sched_yield();
  if (!reap()) watch();
}

asio::awaitable<std::size_t> Run::read(std::span<char> buffer) {
  const auto self = shared_from_this();
  while (!has_ended() && output_.is_open()) {
    const auto [error, got] = co_await output_.async_read_some(asio::buffer(buffer.data(), buffer.size()), kAwait);
    const auto bytes = after_read(error, got);
    if (!bytes) continue;
    if (*bytes == 0) output_is_over();
    co_return *bytes;
  }
  co_return output_.is_open() ? read_now(buffer).value_or(0) : 0;
}

asio::awaitable<std::optional<std::size_t>> Run::read_by(std::span<char> buffer, Clock::time_point time) {
  const auto self = shared_from_this();
  if (!output_.is_open()) co_return 0;
  std::optional<std::size_t> bytes = read_now(buffer);
  if (!bytes && !has_ended()) {
    patience_.expires_at(time);
    patience_.async_wait([self](const boost::system::error_code& error) {
      if (!error && self->output_.is_open()) self->output_.cancel();
    });
    const auto [error, got] = co_await output_.async_read_some(asio::buffer(buffer.data(), buffer.size()), kAwait);
    patience_.cancel();
    bytes = after_read(error, got);
  }
  if (!output_.is_open()) co_return 0;
  if (!bytes && has_ended()) bytes = read_now(buffer).value_or(0);
  if (bytes == 0) output_is_over();
  co_return bytes;
}

asio::awaitable<bool> Run::write(std::string_view data) {
  const auto self = shared_from_this();
  while (!data.empty()) {
    if (!input_.is_open() || has_ended()) co_return false;
    const ssize_t written = ::write(input_.native_handle(), data.data(), data.size());
    if (written >= 0) {
      data.remove_prefix(static_cast<std::size_t>(written));
    } else if (errno == EAGAIN) {
      co_await input_.async_wait(asio::posix::stream_descriptor::wait_write, kAwait);
    } else if (errno != EINTR) {
      co_return false;
    }
  }
  co_return true;
}

void Run::close_input() {
  boost::system::error_code ignored;
  input_.close(ignored);
}

void Run::set_deadline(Clock::time_point time) {
  if (has_ended()) return;
  deadline_ = time;
  set_.look_by(time);
}

void Run::stop() {
  if (has_ended() || process_->is_terminating()) return;
  process_->terminate();
  set_.look_by(process_->look(Clock::now()));
  watch();
}

void Run::client_left() {
  if (has_ended()) return;
  boost::system::error_code ignored;
  output_.close(ignored);
  watch();
}

asio::awaitable<bool> Run::ended_by(Clock::time_point time) {
  const auto self = shared_from_this();
  co_await ended_.wait_until(time);
  co_return has_ended();
}

asio::awaitable<ProcessEnd> Run::end() {
  const auto self = shared_from_this();
  co_await ended_.wait();
  co_return process_->end();
}

}  // namespace porter::run
