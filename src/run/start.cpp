// clone and execve, with only async-signal-safe calls in between. See start.hpp.
#include "run/start.hpp"

#include <fcntl.h>
#include <linux/close_range.h>
#include <sched.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <csignal>
#include <cstdint>
#include <cstdlib>
#include <mutex>

#include "core/files/descriptor.hpp"

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
  const std::vector<ResourceLimit>& limits;
  StartError failure;  ///< Filled in by the child, whose memory is the parent's; number 0: there was none.
};

/// Runs in the child, in the parent's memory but on a stack of its own. Does not return to the parent's code.
// The sanitizers take it for a part of the thread that it was started from, and would lose count of that one's stack.
[[gnu::no_sanitize_address, gnu::no_sanitize_thread, gnu::no_sanitize_undefined]] int become(void* argument) {
  Child& child = *static_cast<Child*>(argument);
  const auto fail = [&child](StartError::Step step) __attribute__((no_sanitize_address, no_sanitize_thread)) {
    child.failure = {step, errno};
    return 127;
  };
  ::setpgid(0, 0);
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
  if (::chdir(child.folder) != 0) return fail(StartError::Step::folder);
  for (const ResourceLimit& limit : child.limits)
    ::setrlimit(static_cast<__rlimit_resource>(limit.resource), &limit.limit);
  // Should the server be killed so hard that nothing else can end its scripts. The warden sees to what they started.
  ::prctl(PR_SET_PDEATHSIG, SIGKILL);
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
    while (::waitpid(id, nullptr, 0) < 0 && errno == EINTR) {
    }
    return child.failure;
  }
  return id;
}

}  // namespace porter::run
