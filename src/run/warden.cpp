// The warden's pipe and its loop. See warden.hpp.
#include "run/warden.hpp"

#include <fcntl.h>
#include <linux/close_range.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <csignal>
#include <cstddef>
#include <ctime>

namespace porter::run {
namespace {

int notes = -1;  // Set once, before there are threads.

/// A begin is the group's number, an end the same with a minus.
using Note = pid_t;

constexpr std::size_t kMostGroups = 16384;
// After a note the warden sleeps before it reads on: woken for each note, it would take time from the scripts.
constexpr timespec kNap{0, 100'000'000};

/// The warden's whole life. It was forked off a process that has allocators and locks of its own, so it uses neither.
[[noreturn]] void keep_watch(int pipe) {
  static std::array<pid_t, kMostGroups> groups;
  std::size_t count = 0;
  ::prctl(PR_SET_NAME, "porter-warden");
  for (const int signal : {SIGINT, SIGTERM, SIGHUP, SIGPIPE}) ::signal(signal, SIG_IGN);
  std::array<Note, 256> read_notes;
  for (;;) {
    const ssize_t got = ::read(pipe, read_notes.data(), sizeof read_notes);
    if (got < 0 && errno == EINTR) continue;
    if (got <= 0) break;
    if (static_cast<std::size_t>(got) < sizeof read_notes) ::nanosleep(&kNap, nullptr);
    // Notes are written whole and are smaller than what a pipe keeps together, so none comes in parts.
    for (std::size_t i = 0; i < static_cast<std::size_t>(got) / sizeof(Note); ++i) {
      const Note note = read_notes[i];
      if (note > 0 && count < groups.size()) {
        groups[count++] = note;
      } else if (note < 0) {
        const auto end = groups.begin() + static_cast<std::ptrdiff_t>(count);
        const auto found = std::find(groups.begin(), end, -note);
        if (found != end) *found = groups[--count];
      }
    }
  }
  for (std::size_t i = 0; i < count; ++i) ::kill(-groups[i], SIGKILL);
  ::_exit(0);
}

void write_note(Note note) {
  if (notes < 0) return;
  // The pipe does not block: a warden that is stopped must not stop the server.
  [[maybe_unused]] const ssize_t written = ::write(notes, &note, sizeof note);
}

}  // namespace

void start_warden() {
  std::array<int, 2> ends{};
  if (::pipe2(ends.data(), O_CLOEXEC) != 0) return;
  const pid_t child = ::fork();
  if (child == 0) {
    ::setsid();
    // Forked twice, so that it is nobody's child and nobody has to bury it.
    if (::fork() != 0) ::_exit(0);
    const int null = ::open("/dev/null", O_RDWR);
    for (int i = 0; i < 3; ++i) ::dup2(null, i);
    ::dup2(ends[0], 3);
    ::syscall(SYS_close_range, 4, ~0U, 0);
    [[maybe_unused]] const int changed = ::chdir("/");
    keep_watch(3);
  }
  ::close(ends[0]);
  if (child < 0) {
    ::close(ends[1]);
    return;
  }
  while (::waitpid(child, nullptr, 0) < 0 && errno == EINTR) {
  }
  ::fcntl(ends[1], F_SETFL, O_NONBLOCK);
  notes = ends[1];
}

void warden_note_begin(pid_t id) { write_note(id); }
void warden_note_end(pid_t id) { write_note(-id); }

}  // namespace porter::run
