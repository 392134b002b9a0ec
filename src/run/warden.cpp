// The warden's pipe, and its look through all processes. See warden.hpp.
#include "run/warden.hpp"

#include <fcntl.h>
#include <linux/close_range.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <charconv>
#include <csignal>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <ctime>
#include <string_view>
#include <utility>

#include "run/fresh/kin.hpp"
#include "run/mark.hpp"
#include "run/process.hpp"

namespace porter::run {
namespace {

/// How often all processes are looked through: what is just being forked off may slip through one look.
constexpr int kLooks = 5;
constexpr timespec kBetweenLooks{0, 40'000'000};

// It was forked off a process with threads, whose allocators and locks are in an unknown state, so from here on neither
// is used: paths are put together in arrays, and folders are read by the system call itself.

/// An entry as getdents64(2) gives it.
struct FolderEntry {
  std::uint64_t inode;
  std::int64_t offset;
  std::uint16_t length;
  std::uint8_t type;
  char name[1];
};

/// True if the process called `name` in /proc carries a mark of the runs that `mark` stands for.
bool is_marked(std::string_view name, std::uint64_t mark) {
  constexpr std::string_view kFolder = "/proc/";
  constexpr std::string_view kFile = "/limits";
  std::array<char, 64> path{};
  if (name.size() > 20) return false;
  char* end = path.data();
  for (const std::string_view part : {kFolder, name, kFile})
    end = static_cast<char*>(std::memcpy(end, part.data(), part.size())) + part.size();
  const int file = ::open(path.data(), O_RDONLY | O_CLOEXEC);
  if (file < 0) return false;
  static std::array<char, 4096> text;
  const ssize_t got = ::read(file, text.data(), text.size());
  ::close(file);
  // Without a mark nobody is meant: most processes have no such limit, which reads as 0.
  if (got <= 0 || mark == 0) return false;
  return mark_in({text.data(), static_cast<std::size_t>(got)}) >> kNumberBits == mark >> kNumberBits;
}

/// Ends every marked process that there is at the moment.
void end_marked(std::uint64_t mark) {
  const int folder = ::open("/proc", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  if (folder < 0) return;
  alignas(8) static std::array<char, 32768> entries;
  for (;;) {
    const long got = ::syscall(SYS_getdents64, folder, entries.data(), entries.size());
    if (got <= 0) break;
    for (long at = 0; at < got;) {
      const auto* const entry = reinterpret_cast<const FolderEntry*>(entries.data() + at);
      at += entry->length;
      const std::string_view name = static_cast<const char*>(entry->name);
      pid_t id = 0;
      const auto [end, error] = std::from_chars(name.data(), name.data() + name.size(), id);
      if (error != std::errc{} || end != name.data() + name.size() || id <= 1) continue;
      if (is_marked(name, mark)) ::kill(id, SIGKILL);
    }
  }
  ::close(folder);
}

/// The warden's whole life.
[[noreturn]] void keep_watch(int pipe, std::uint64_t mark) {
  ::prctl(PR_SET_NAME, "porter-warden");
  for (const int signal : {SIGINT, SIGTERM, SIGHUP, SIGPIPE}) ::signal(signal, SIG_IGN);
  char byte = 0;
  ssize_t got = 0;
  do got = ::read(pipe, &byte, 1);
  while (got < 0 && errno == EINTR);
  if (got > 0) ::_exit(0);
  for (int i = 0; i < kLooks; ++i) {
    end_marked(mark);
    ::nanosleep(&kBetweenLooks, nullptr);
  }
  ::_exit(0);
}

}  // namespace

void dismiss_warden(Warden warden) {
  if (warden.pipe.is_open()) [[maybe_unused]]
    const ssize_t written = ::write(warden.pipe.get(), "x", 1);
  warden.pipe.reset();
  if (warden.process > 0) wait_and_reap(warden.process);
}

namespace {

/// What a new warden needs to know.
struct Beginning {
  WardenIs is;
  int pipe;
  std::uint64_t mark;
};

void begin(void* argument) {
  const Beginning& beginning = *static_cast<Beginning*>(argument);
  ::setsid();
  // Its parent ends at once, so that it is nobody's child.
  if (beginning.is == WardenIs::nobodys && ::fork() != 0) return;
  const int null = ::open("/dev/null", O_RDWR);
  for (int i = 0; i < 3; ++i) ::dup2(null, i);
  ::dup2(beginning.pipe, 3);
  ::syscall(SYS_close_range, 4, ~0U, 0);
  [[maybe_unused]] const int changed = ::chdir("/");
  keep_watch(3, beginning.mark);
}

}  // namespace

Warden start_warden(WardenIs is) {
  std::array<int, 2> ends{};
  if (::pipe2(ends.data(), O_CLOEXEC) != 0) return {};
  Warden warden{files::Descriptor(ends[1])};
  int holds_orphans = 0;
  ::prctl(PR_GET_CHILD_SUBREAPER, &holds_orphans);
  if (is == WardenIs::nobodys) ::prctl(PR_SET_CHILD_SUBREAPER, 0);
  Beginning beginning{is, ends[0], kin_mark()};
  warden.process = fork_process(begin, &beginning);
  ::close(ends[0]);
  if (is == WardenIs::nobodys) {
    if (warden.process > 0) wait_and_reap(warden.process);
    ::prctl(PR_SET_CHILD_SUBREAPER, holds_orphans);
  }
  if (warden.process < 0) return {};
  if (is == WardenIs::nobodys) warden.process = 0;
  return warden;
}

ScopedKin::ScopedKin() {
  hold_kin();
  warden_ = start_warden(WardenIs::nobodys);
}

ScopedKin::~ScopedKin() {
  end_all_kin();
  dismiss_warden(std::move(warden_));
}

}  // namespace porter::run
