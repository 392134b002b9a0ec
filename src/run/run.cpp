// A run's streams, its end and its time limit. See run.hpp.
#include "run/run.hpp"

#include "run/warden.hpp"

#include <fcntl.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <cerrno>
#include <csignal>

namespace porter::run {
namespace {

constexpr std::chrono::seconds kGraceAfterTerm{2};

struct Pipe {
  files::Descriptor read_end;
  files::Descriptor write_end;
};

/// A pipe whose end for the server (`mine`) does not block, while the script's end does, as programs expect.
enum class MyEnd { read, write };
bool make_pipe(Pipe& pipe, MyEnd mine) {
  std::array<int, 2> ends{};
  if (::pipe2(ends.data(), O_CLOEXEC) != 0) return false;
  pipe.read_end.reset(ends[0]);
  pipe.write_end.reset(ends[1]);
  return ::fcntl(mine == MyEnd::read ? ends[0] : ends[1], F_SETFL, O_NONBLOCK) == 0;
}

}  // namespace

void RunSet::terminate_all() {
  for (Run* const run : runs_) run->terminate();
}

std::variant<std::shared_ptr<Run>, StartError> Run::start(const asio::any_io_executor& executor, RunSet& set,
                                                          RunOrder order) {
  Pipe input;
  Pipe output;
  Pipe error;
  if (!make_pipe(output, MyEnd::read) || !make_pipe(error, MyEnd::read) ||
      (order.input == InputKind::pipe && !make_pipe(input, MyEnd::write)))
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
  auto started = start_process(start);
  if (const auto* const failure = std::get_if<StartError>(&started)) return *failure;

  // The constructor is private, which std::make_shared cannot reach.
  std::shared_ptr<Run> run(
      new Run(executor, set, std::move(std::get<Process>(started)), order.error_stream_limit, std::move(order.ticket)));
  if (input.write_end.is_open()) run->input_.assign(input.write_end.release());
  run->output_.assign(output.read_end.release());
  run->error_.assign(error.read_end.release());
  asio::co_spawn(executor, run->watch_end(), asio::detached);
  asio::co_spawn(executor, run->collect_error_stream(), asio::detached);
  return run;
}

Run::Run(const asio::any_io_executor& executor, RunSet& set, Process process, std::size_t error_stream_limit,
         std::shared_ptr<void> ticket)
    : set_(set),
      id_(process.id),
      begun_(std::chrono::steady_clock::now()),
      error_stream_limit_(error_stream_limit),
      handle_(executor, process.handle.release()),
      input_(executor),
      output_(executor),
      error_(executor),
      deadline_(executor),
      escalation_(executor),
      ended_(executor),
      error_stream_read_(executor),
      ticket_(std::move(ticket)) {
  set_.runs_.insert(this);
  warden_note_begin(id_);
}

Run::~Run() {
  set_.runs_.erase(this);
  if (has_ended()) return;
  // Only when the io_context is destroyed before the run's end: nothing may be left behind even then.
  ::kill(-id_, SIGKILL);
  while (::waitpid(id_, nullptr, 0) < 0 && errno == EINTR) {
  }
}

asio::awaitable<void> Run::watch_end() {
  const auto self = shared_from_this();
  for (;;) {
    const auto [error] = co_await handle_.async_wait(asio::posix::stream_descriptor::wait_read, kAwait);
    if (error) co_return;
    siginfo_t info{};
    // WNOWAIT leaves the process unreaped, so its number, which is its group's too, cannot pass to another meanwhile.
    if (::waitid(P_PID, static_cast<id_t>(id_), &info, WEXITED | WNOHANG | WNOWAIT) == 0 && info.si_pid == id_) break;
  }
  ::kill(-id_, SIGKILL);
  warden_note_end(id_);
  int status = 0;
  rusage usage{};
  while (::wait4(id_, &status, 0, &usage) < 0 && errno == EINTR) {
  }
  end_.exit_status = WIFEXITED(status) ? WEXITSTATUS(status) : 0;
  end_.signal = WIFSIGNALED(status) ? WTERMSIG(status) : 0;
  end_.peak_memory_kib = usage.ru_maxrss;
  end_.duration = std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::steady_clock::now() - begun_);
  ticket_.reset();
  ended_.set();
  set_.runs_.erase(this);
  deadline_.cancel();
  escalation_.cancel();
  // Whoever reads waits for nothing more than what lies in the pipes, even if a process that left the group holds them.
  if (output_.is_open()) output_.cancel();
  if (input_.is_open()) input_.cancel();
  error_.cancel();
}

asio::awaitable<void> Run::collect_error_stream() {
  const auto self = shared_from_this();
  std::array<char, 4096> buffer;
  for (;;) {
    const ssize_t got = ::read(error_.native_handle(), buffer.data(), buffer.size());
    if (got > 0) {
      error_text_.append(buffer.data(), static_cast<std::size_t>(got));
      if (error_text_.size() > 2 * error_stream_limit_) error_text_.erase(0, error_text_.size() - error_stream_limit_);
    } else if (got == 0 || (errno != EAGAIN && errno != EINTR) || has_ended()) {
      break;
    } else {
      co_await error_.async_wait(asio::posix::stream_descriptor::wait_read, kAwait);
    }
  }
  if (error_text_.size() > error_stream_limit_) error_text_.erase(0, error_text_.size() - error_stream_limit_);
  error_stream_read_.set();
}

std::optional<std::size_t> Run::read_now(std::span<char> buffer) {
  const ssize_t got = ::read(output_.native_handle(), buffer.data(), buffer.size());
  if (got < 0) return std::nullopt;
  return static_cast<std::size_t>(got);
}

asio::awaitable<void> Run::readable_by(Clock::time_point time) {
  const auto self = shared_from_this();
  if (has_ended()) co_return;
  asio::steady_timer timer(output_.get_executor(), time);
  timer.async_wait([self](const boost::system::error_code& error) {
    if (!error && self->output_.is_open()) self->output_.cancel();
  });
  co_await output_.async_wait(asio::posix::stream_descriptor::wait_read, kAwait);
}

asio::awaitable<std::size_t> Run::read(std::span<char> buffer) {
  const auto self = shared_from_this();
  for (;;) {
    const bool was_ended = has_ended();
    const ssize_t got = ::read(output_.native_handle(), buffer.data(), buffer.size());
    if (got > 0) co_return static_cast<std::size_t>(got);
    if (got == 0 || (errno != EAGAIN && errno != EINTR) || was_ended) co_return 0;
    co_await output_.async_wait(asio::posix::stream_descriptor::wait_read, kAwait);
  }
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

void Run::set_deadline(std::chrono::steady_clock::time_point time) {
  deadline_.expires_at(time);
  if (deadline_watched_ || has_ended()) return;
  deadline_watched_ = true;
  asio::co_spawn(deadline_.get_executor(), enforce_deadline(), asio::detached);
}

asio::awaitable<void> Run::enforce_deadline() {
  const auto self = shared_from_this();
  // A moved deadline ends the wait as well, so the time decides.
  while (!has_ended() && deadline_.expiry() > std::chrono::steady_clock::now()) co_await deadline_.async_wait(kAwait);
  if (has_ended()) co_return;
  was_too_slow_ = true;
  terminate();
}

void Run::terminate() {
  if (terminating_ || has_ended()) return;
  terminating_ = true;
  ::kill(-id_, SIGTERM);
  asio::co_spawn(escalation_.get_executor(), escalate(), asio::detached);
}

asio::awaitable<void> Run::escalate() {
  const auto self = shared_from_this();
  escalation_.expires_after(kGraceAfterTerm);
  co_await escalation_.async_wait(kAwait);
  if (!has_ended()) ::kill(-id_, SIGKILL);
}

asio::awaitable<bool> Run::ended_by(Clock::time_point time) {
  const auto self = shared_from_this();
  co_await ended_.wait_until(time);
  co_return has_ended();
}

asio::awaitable<RunEnd> Run::end() {
  const auto self = shared_from_this();
  co_await ended_.wait();
  co_await error_stream_read_.wait();
  co_return end_;
}

}  // namespace porter::run
