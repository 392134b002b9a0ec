// vfork and execve, with only async-signal-safe calls in between. See start.hpp.
#include "run/start.hpp"

#include <fcntl.h>
#include <linux/close_range.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstdlib>

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
  int report;  ///< A pipe that closes when the other program has begun; before that, it may carry a StartError.
};

/// Runs in the child, in the parent's memory. Never returns; reports why not.
[[noreturn]] void become(Child& child) {
  const auto fail = [&child](StartError::Step step) {
    const StartError error{step, errno};
    [[maybe_unused]] const ssize_t written = ::write(child.report, &error, sizeof error);
    ::_exit(127);
  };
  ::setpgid(0, 0);
  // The server's handlers would run in its own memory, and an ignored SIGPIPE would be inherited. These four are all
  // that it has changed; every call here keeps the server's thread waiting.
  for (const int signal : {SIGINT, SIGTERM, SIGHUP, SIGPIPE}) ::signal(signal, SIG_DFL);
  for (int i = 0; i < 3; ++i) {
    // dup2 onto itself would keep the close-on-exec flag; the caller makes sure that all are above 2.
    if (::dup2(child.streams[i], i) < 0) fail(StartError::Step::resources);
  }
  if (::syscall(SYS_close_range, 3, ~0U, CLOSE_RANGE_CLOEXEC) != 0) fail(StartError::Step::resources);
  if (::chdir(child.folder) != 0) fail(StartError::Step::folder);
  for (const ResourceLimit& limit : child.limits)
    ::setrlimit(static_cast<__rlimit_resource>(limit.resource), &limit.limit);
  // Should the server be killed so hard that nothing else can end its scripts. The warden sees to what they started.
  ::prctl(PR_SET_PDEATHSIG, SIGKILL);
  ::umask(022);
  sigset_t none;
  ::sigemptyset(&none);
  ::sigprocmask(SIG_SETMASK, &none, nullptr);
  ::execve(child.program, child.arguments, child.environment);
  fail(StartError::Step::execute);
  ::abort();
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
    static const files::Descriptor null(::open("/dev/null", O_RDWR | O_CLOEXEC));
    return null.get();
  }

  files::Descriptor copy_;
  int number_;
};

// A function of its own, so that no variable of the caller can be lost between the two returns of vfork().
// posix_spawn, which the analyzer would have, can neither set limits nor tell the step that failed.
[[gnu::noinline]] pid_t vfork_and_become(Child& child) {
  const pid_t id = ::vfork();  // NOLINT(clang-analyzer-security.insecureAPI.vfork)
  if (id == 0) become(child);  // NOLINT(clang-analyzer-unix.Vfork)
  return id;
}

}  // namespace

std::variant<Process, StartError> start_process(const StartOrder& order) {
  const auto arguments = pointers(order.arguments);
  const auto environment = pointers(order.environment);
  const Stream streams[3] = {Stream(order.input), Stream(order.output), Stream(order.error)};
  for (const Stream& stream : streams)
    if (stream.number() < 0) return StartError{StartError::Step::resources, errno};
  int report_ends[2];
  if (::pipe2(report_ends, O_CLOEXEC) != 0) return StartError{StartError::Step::resources, errno};
  const files::Descriptor report(report_ends[0]);
  files::Descriptor report_writer(report_ends[1]);
  Child child{order.program.c_str(),
              arguments.data(),
              environment.data(),
              order.folder.c_str(),
              {streams[0].number(), streams[1].number(), streams[2].number()},
              order.limits,
              report_ends[1]};

  // No signal may arrive in the child before its handlers are gone.
  sigset_t all;
  sigset_t before;
  ::sigfillset(&all);
  ::pthread_sigmask(SIG_SETMASK, &all, &before);
  const pid_t id = vfork_and_become(child);
  const int fork_error = errno;
  ::pthread_sigmask(SIG_SETMASK, &before, nullptr);

  if (id < 0) return StartError{StartError::Step::resources, fork_error};
  const auto reap = [id] {
    while (::waitpid(id, nullptr, 0) < 0 && errno == EINTR) {
    }
  };
  // vfork() returns only once the child has become the other program or has failed, but ThreadSanitizer replaces it by
  // fork(), which does not wait: so the report is read to its end.
  report_writer.reset();
  StartError failure{};
  if (::read(report.get(), &failure, sizeof failure) == static_cast<ssize_t>(sizeof failure)) {
    reap();
    return failure;
  }
  Process process;
  process.id = id;
  process.handle.reset(static_cast<int>(::syscall(SYS_pidfd_open, id, 0)));
  if (!process.handle.is_open()) {
    const int error = errno;
    ::kill(-id, SIGKILL);
    reap();
    return StartError{StartError::Step::resources, error};
  }
  return process;
}

}  // namespace porter::run
