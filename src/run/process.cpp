// clone and execve, with only async-signal-safe calls in between; and the ways to end. See process.hpp.
#include "run/process.hpp"

#include <fcntl.h>
#include <linux/close_range.h>
#include <sched.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <charconv>
#include <csignal>
#include <cstdint>
#include <cstdlib>
#include <ctime>
#include <mutex>
#include <new>

#include "core/files/descriptor.hpp"
#include "run/proc.hpp"

// clone() by its other name, under which ThreadSanitizer does not take it for a fork() that copies the process.
extern "C" int __clone(int (*begin)(void*), void* stack, int flags, void* argument,
                       ...);  // NOLINT(bugprone-reserved-identifier)

namespace porter::run {
namespace {

std::vector<char*> pointers(const std::vector<std::string>& strings) {
  std::vector<char*> out;
  out.reserve(strings.size() + 1);
  // execve() takes its strings as non-const by tradition only.
  for (const std::string& s : strings) out.push_back(const_cast<char*>(s.c_str()));
  out.push_back(nullptr);
  return out;
}

/// Everything that the child needs, laid out before it exists: it may not allocate.
struct Child {
  const char* program;
  char* const* arguments;
  char* const* environment;
  const char* folder;
  int streams[3];
  std::optional<std::pair<int, int>> also;
  StartOrder::Leads leads;
  const std::vector<ResourceLimit>& limits;
  StartError failure;  ///< Filled in by the child, whose memory is the parent's; number 0: there was none.
};

/// Runs in the child, in the parent's memory but on a stack of its own. Does not return to the parent's code.
// The sanitizers take it for a part of the thread that it was started from, and would lose count of that one's stack.
__attribute__((no_sanitize("address"), no_sanitize("thread"), no_sanitize("undefined"))) int become(void* argument) {
  Child& child = *static_cast<Child*>(argument);
  const auto fail = [&child](StartError::Step step) __attribute__((no_sanitize_address, no_sanitize_thread)) {
    child.failure = {step, errno};
    return 127;
  };
  if (child.leads == StartOrder::Leads::session) {
    ::setsid();
  } else {
    ::setpgid(0, 0);
  }
  // The server's handlers would run in its own memory, and an ignored SIGPIPE would be inherited. These four are all
  // that it has changed; every call here keeps the server's thread waiting. The library's signal() and dup2() are
  // passed by, since a sanitizer keeps notes of signals and descriptors in memory, which is the server's.
  constexpr std::array<std::uint64_t, 8> kDefaultAction{};  // The kernel's struct sigaction with SIG_DFL, all zero.
  for (const int signal : {SIGINT, SIGTERM, SIGHUP, SIGPIPE})
    ::syscall(SYS_rt_sigaction, signal, kDefaultAction.data(), nullptr, sizeof(std::uint64_t));
  for (int i = 0; i < 3; ++i) {
    // A stream put onto itself would keep the close-on-exec flag; the caller makes sure that all are above 2.
    if (::syscall(SYS_dup3, child.streams[i], i, 0) < 0) return fail(StartError::Step::resources);
  }
  if (::syscall(SYS_close_range, 3, ~0U, CLOSE_RANGE_CLOEXEC) != 0) return fail(StartError::Step::resources);
  if (child.also) {
    const auto [from, to] = *child.also;
    // Put onto itself it would keep the flag that closes it.
    const long done = from == to ? ::syscall(SYS_fcntl, to, F_SETFD, 0) : ::syscall(SYS_dup3, from, to, 0);
    if (done < 0) return fail(StartError::Step::resources);
  }
  if (::chdir(child.folder) != 0) return fail(StartError::Step::folder);
  for (const ResourceLimit& limit : child.limits)
    ::setrlimit(static_cast<__rlimit_resource>(limit.resource), &limit.limit);
  // Should the server be killed so hard that nothing else can end its scripts. The warden sees to what they started.
  if (child.leads == StartOrder::Leads::group) ::prctl(PR_SET_PDEATHSIG, SIGKILL);
  ::umask(022);
  constexpr std::uint64_t kNoSignals = 0;
  ::syscall(SYS_rt_sigprocmask, SIG_SETMASK, &kNoSignals, nullptr, sizeof kNoSignals);
  ::execve(child.program, child.arguments, child.environment);
  return fail(StartError::Step::execute);
}

/// What a stream of the child is made from: a descriptor above 2, so that none is lost when they are put in their
/// places.
class Stream {
 public:
  explicit Stream(int wanted) : number_(wanted < 0 ? null_device() : wanted) {
    if (number_ < 0 || number_ > 2) return;
    copy_.reset(::fcntl(number_, F_DUPFD_CLOEXEC, 3));
    number_ = copy_.get();
  }
  /// Negative: there was none to be had.
  int number() const { return number_; }

 private:
  static int null_device() {
    // Opened anew for as long as that fails: a lack of descriptors passes.
    static std::mutex mutex;
    static files::Descriptor null;
    const std::lock_guard lock(mutex);
    if (!null.is_open()) null.reset(::open("/dev/null", O_RDWR | O_CLOEXEC));
    return null.get();
  }

  files::Descriptor copy_;
  int number_;
};

/// Makes the child; its number, or -1. Returns once the child has become the other program or has given up.
// What vfork() does; posix_spawn can neither set limits nor tell the step that failed.
pid_t clone_and_become(Child& child) {
  // Only one child of a thread is ever on it, since the thread waits meanwhile.
  alignas(16) static thread_local std::array<char, 32 * 1024> stack;
  return ::__clone(become, stack.data() + stack.size(), CLONE_VM | CLONE_VFORK | SIGCHLD, &child);
}

}  // namespace

bool has_descriptors_for_one() {
  std::array<files::Descriptor, 16> probes;
  for (files::Descriptor& probe : probes) probe.reset(::fcntl(STDIN_FILENO, F_DUPFD_CLOEXEC, 0));
  return std::all_of(probes.begin(), probes.end(), [](const files::Descriptor& probe) { return probe.is_open(); });
}

std::variant<pid_t, StartError> start_process(StartOrder order) {
  const auto arguments = pointers(order.arguments);
  const auto environment = order.environment.pointers();
  const Stream streams[3] = {Stream(order.input), Stream(order.output), Stream(order.error)};
  for (const Stream& stream : streams)
    if (stream.number() < 0) return StartError{StartError::Step::resources, errno};
  Child child{order.program.c_str(),
              arguments.data(),
              environment.data(),
              order.folder.c_str(),
              {streams[0].number(), streams[1].number(), streams[2].number()},
              order.also,
              order.leads,
              order.limits,
              {}};

  // No signal may arrive in the child before its handlers are gone.
  sigset_t all;
  sigset_t before;
  ::sigfillset(&all);
  ::pthread_sigmask(SIG_SETMASK, &all, &before);
  const pid_t id = clone_and_become(child);
  const int clone_error = errno;
  ::pthread_sigmask(SIG_SETMASK, &before, nullptr);

  if (id < 0) return StartError{StartError::Step::resources, clone_error};
  if (child.failure.number != 0) {
    wait_and_reap(id);
    return child.failure;
  }
  return id;
}

std::optional<int> run_to_its_end(StartOrder order) {
  const auto started = start_process(std::move(order));
  const auto* const id = std::get_if<pid_t>(&started);
  if (id == nullptr) return std::nullopt;
  int status = 0;
  while (::waitpid(*id, &status, 0) < 0)
    if (errno != EINTR) return std::nullopt;
  return WIFEXITED(status) ? std::optional(WEXITSTATUS(status)) : std::nullopt;
}

pid_t fork_process(void (*life)(void*), void* argument) {
  const pid_t id = ::fork();
  if (id != 0) return id;
  life(argument);
  ::_exit(0);
}

void wait_and_reap(pid_t id) {
  while (::waitpid(id, nullptr, 0) < 0 && errno == EINTR) {
  }
}

std::variant<std::unique_ptr<Process>, StartError> Process::start(StartOrder order) {
  // The constructor is private, which std::make_unique cannot reach.
  std::unique_ptr<Process> process(new Process);
  if (kin_mark() != 0) order.limits.push_back({RLIMIT_RTTIME, process->kin_.mark()});
  process->leaves_running_ = order.leaves_running;
  const auto started = start_process(std::move(order));
  if (const auto* const failure = std::get_if<StartError>(&started)) return *failure;
  process->id_ = std::get<pid_t>(started);
  process->kin_.set_leader(process->id_);
  if (::clock_getcpuclockid(process->id_, &process->clock_) != 0) process->clock_ = 0;
  return process;
}

Process::~Process() {
  const bool has_begun = id_ > 0;
  if (!has_begun || has_ended()) return;
  kin_.signal(SIGKILL);
  while (!reap()) ::usleep(1000);
}

void Process::terminate(Clock::duration grace) {
  if (is_terminating() || has_ended()) return;
  send(SIGTERM);
  kill_time_ = Clock::now() + grace;
}

void Process::kill() {
  if (has_ended()) return;
  kill_time_ = Clock::time_point::max();
  send(SIGKILL);
}

void Process::send(int signal) const {
  if (leaves_running_) {
    ::kill(id_, signal);
  } else {
    kin_.signal(signal);
  }
}

Process::Clock::time_point Process::look(Clock::time_point now) {
  if (has_ended()) return Clock::time_point::max();
  if (now >= kill_time_) {
    kill_time_ = Clock::time_point::max();
    send(SIGKILL);
  }
  return kill_time_;
}

void Process::note_what_is_left() {
  try {
    const auto orphans = kin_.orphans();
    if (leaves_running_ && !orphans.empty()) kin_.spare();
    for (const pid_t id : orphans)
      if (std::string name = leaves_running_ ? "" : process_text(id); !name.empty())
        left_running_.push_back(std::move(name));
  } catch (const std::bad_alloc&) {
    // Less is told then: the process has ended all the same, and there may be no other look.
  }
}

bool Process::reap() {
  if (has_ended()) return true;
  siginfo_t info{};
  // WNOWAIT leaves the process unreaped, so its number, which is its group's too, cannot pass to another meanwhile.
  const int known = ::waitid(P_PID, static_cast<id_t>(id_), &info, WEXITED | WNOHANG | WNOWAIT);
  if (known == 0 && info.si_pid != id_) return false;
  if (known == 0 && info.si_code == CLD_EXITED) note_what_is_left();
  if (known == 0 && !leaves_running_) ::kill(-id_, SIGKILL);
  int status = 0;
  rusage usage{};
  if (!kin_.reap(status, usage)) return false;
  ProcessEnd end;
  if (WIFSIGNALED(status)) {
    end.signal = WTERMSIG(status);
  } else {
    end.exit_status = WEXITSTATUS(status);
  }
  end.peak_memory_kib = usage.ru_maxrss;
  for (const timeval& time : {usage.ru_utime, usage.ru_stime})
    end.processor_time += std::chrono::seconds(time.tv_sec) + std::chrono::microseconds(time.tv_usec);
  end.duration = std::chrono::duration_cast<std::chrono::microseconds>(Clock::now() - begun_);
  end_ = end;
  return true;
}

files::Descriptor Process::watch() const {
  return files::Descriptor(static_cast<int>(::syscall(SYS_pidfd_open, id_, 0)));
}

std::optional<std::chrono::nanoseconds> Process::processor_time() const {
  timespec used{};
  if (has_ended() || clock_ == 0 || ::clock_gettime(clock_, &used) != 0) return std::nullopt;
  return std::chrono::seconds(used.tv_sec) + std::chrono::nanoseconds(used.tv_nsec);
}

std::size_t Process::address_space() const {
  const std::string text = proc_content(id_, "statm");
  std::size_t pages = 0;
  std::from_chars(text.data(), text.data() + text.size(), pages);
  return pages * static_cast<std::size_t>(::sysconf(_SC_PAGESIZE));
}

bool Process::is_computing() const {
  const auto state = state_of(id_);
  return state && state->state == 'R';
}

}  // namespace porter::run
