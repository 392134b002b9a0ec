// Loaded before a program, this makes one of its system calls fail, or do less than was asked for: the one to which the
// plan in the shared file that PORTER_FAILING_CALL names counts down. See failing_calls.hpp.
#include "failing_calls.hpp"

#include <dlfcn.h>
#include <fcntl.h>
#include <sys/epoll.h>
#include <sys/mman.h>
#include <sys/sendfile.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <cerrno>
#include <cstdarg>
#include <cstdlib>

namespace {

using porter::test::FailingCall;
using porter::test::FailingPlan;

FailingPlan* plan() {
  static FailingPlan* const shared = [] {
    const char* const path = std::getenv("PORTER_FAILING_CALL");
    const int file = path == nullptr ? -1 : static_cast<int>(::syscall(SYS_openat, AT_FDCWD, path, O_RDWR | O_CLOEXEC));
    void* const memory =
        file < 0 ? MAP_FAILED : ::mmap(nullptr, sizeof(FailingPlan), PROT_READ | PROT_WRITE, MAP_SHARED, file, 0);
    if (file >= 0) ::close(file);
    return memory == MAP_FAILED ? nullptr : static_cast<FailingPlan*>(memory);
  }();
  return shared;
}

/// True for the one `call` that is to fail.
bool is_chosen(FailingCall call) {
  FailingPlan* const now = plan();
  return now != nullptr && now->call.load() == call && now->countdown.load() > 0 && now->countdown.fetch_sub(1) == 1;
}

/// The library's own function of the name, behind this one.
template <typename Function>
Function next(const char* name) {
  return reinterpret_cast<Function>(::dlsym(RTLD_NEXT, name));
}

/// Does `real`, or fails. Where less is to be done, `real_short` does it.
template <typename Real, typename Short>
auto attempt(FailingCall call, Real real, Short real_short) -> decltype(real()) {
  if (!is_chosen(call)) return real();
  const int error = plan()->error.load();
  if (error == 0) return real_short();
  errno = error;
  return -1;
}

template <typename Real>
auto attempt(FailingCall call, Real real) -> decltype(real()) {
  return attempt(call, real, real);
}

/// Of a size, what is done where less is to be done than asked for.
std::size_t less(std::size_t size) { return size > 1 ? size / 2 : size; }

}  // namespace

extern "C" {

int accept(int socket, sockaddr* address, socklen_t* length) {
  static const auto real = next<int (*)(int, sockaddr*, socklen_t*)>("accept");
  return attempt(FailingCall::accept, [&] { return real(socket, address, length); });
}

int accept4(int socket, sockaddr* address, socklen_t* length, int flags) {
  static const auto real = next<int (*)(int, sockaddr*, socklen_t*, int)>("accept4");
  return attempt(FailingCall::accept, [&] { return real(socket, address, length, flags); });
}

ssize_t recv(int socket, void* buffer, size_t size, int flags) {
  static const auto real = next<ssize_t (*)(int, void*, size_t, int)>("recv");
  return attempt(
      FailingCall::receive, [&] { return real(socket, buffer, size, flags); },
      [&] { return real(socket, buffer, less(size), flags); });
}

ssize_t recvmsg(int socket, msghdr* message, int flags) {
  static const auto real = next<ssize_t (*)(int, msghdr*, int)>("recvmsg");
  return attempt(FailingCall::receive, [&] { return real(socket, message, flags); });
}

ssize_t sendmsg(int socket, const msghdr* message, int flags) {
  static const auto real = next<ssize_t (*)(int, const msghdr*, int)>("sendmsg");
  return attempt(
      FailingCall::send, [&] { return real(socket, message, flags); },
      [&] {
        msghdr some = *message;
        iovec first = message->msg_iov[0];
        first.iov_len = less(first.iov_len);
        some.msg_iov = &first;
        some.msg_iovlen = 1;
        return real(socket, &some, flags);
      });
}

ssize_t sendfile(int out, int in, off_t* offset, size_t size) {
  static const auto real = next<ssize_t (*)(int, int, off_t*, size_t)>("sendfile");
  return attempt(
      FailingCall::send_file, [&] { return real(out, in, offset, size); },
      [&] { return real(out, in, offset, less(size)); });
}

ssize_t read(int file, void* buffer, size_t size) {
  static const auto real = next<ssize_t (*)(int, void*, size_t)>("read");
  return attempt(
      FailingCall::read, [&] { return real(file, buffer, size); }, [&] { return real(file, buffer, less(size)); });
}

ssize_t readv(int file, const iovec* pieces, int count) {
  static const auto real = next<ssize_t (*)(int, const iovec*, int)>("readv");
  return attempt(FailingCall::read, [&] { return real(file, pieces, count); });
}

ssize_t pread(int file, void* buffer, size_t size, off_t offset) {
  static const auto real = next<ssize_t (*)(int, void*, size_t, off_t)>("pread");
  return attempt(
      FailingCall::read, [&] { return real(file, buffer, size, offset); },
      [&] { return real(file, buffer, less(size), offset); });
}

ssize_t write(int file, const void* buffer, size_t size) {
  static const auto real = next<ssize_t (*)(int, const void*, size_t)>("write");
  return attempt(
      FailingCall::write, [&] { return real(file, buffer, size); }, [&] { return real(file, buffer, less(size)); });
}

int open(const char* path, int flags, ...) {
  static const auto real = next<int (*)(const char*, int, mode_t)>("open");
  va_list more;
  va_start(more, flags);
  const mode_t mode = (flags & (O_CREAT | O_TMPFILE)) != 0 ? va_arg(more, mode_t) : 0;
  va_end(more);
  return attempt(FailingCall::open, [&] { return real(path, flags, mode); });
}

int openat(int folder, const char* path, int flags, ...) {
  static const auto real = next<int (*)(int, const char*, int, mode_t)>("openat");
  va_list more;
  va_start(more, flags);
  const mode_t mode = (flags & (O_CREAT | O_TMPFILE)) != 0 ? va_arg(more, mode_t) : 0;
  va_end(more);
  return attempt(FailingCall::open, [&] { return real(folder, path, flags, mode); });
}

int fstat(int file, struct stat* info) {
  static const auto real = next<int (*)(int, struct stat*)>("fstat");
  return attempt(FailingCall::stat, [&] { return real(file, info); });
}

int stat(const char* path, struct stat* info) {
  static const auto real = next<int (*)(const char*, struct stat*)>("stat");
  return attempt(FailingCall::stat, [&] { return real(path, info); });
}

int fstatat(int folder, const char* path, struct stat* info, int flags) {
  static const auto real = next<int (*)(int, const char*, struct stat*, int)>("fstatat");
  return attempt(FailingCall::stat, [&] { return real(folder, path, info, flags); });
}

int pipe2(int ends[2], int flags) {
  static const auto real = next<int (*)(int[2], int)>("pipe2");
  return attempt(FailingCall::pipe, [&] { return real(ends, flags); });
}

int epoll_ctl(int epoll, int operation, int file, epoll_event* event) {
  static const auto real = next<int (*)(int, int, int, epoll_event*)>("epoll_ctl");
  // Taking something away does not fail for lack of anything.
  if (operation != EPOLL_CTL_ADD) return real(epoll, operation, file, event);
  return attempt(FailingCall::watch, [&] { return real(epoll, operation, file, event); });
}

int epoll_wait(int epoll, epoll_event* events, int most, int time) {
  static const auto real = next<int (*)(int, epoll_event*, int, int)>("epoll_wait");
  return attempt(FailingCall::wait, [&] { return real(epoll, events, most, time); });
}

// Calls that have no function of their own in the library: openat2(), pidfd_open(). What goes on in a process that is
// just being made passes by here too, and is left alone.
long syscall(long number, ...) {
  static const auto real = next<long (*)(long, ...)>("syscall");
  va_list more;
  va_start(more, number);
  long words[6];
  for (long& word : words) word = va_arg(more, long);
  va_end(more);
  const auto call = [&] { return real(number, words[0], words[1], words[2], words[3], words[4], words[5]); };
  if (number == SYS_openat2) return attempt(FailingCall::open, call);
  if (number == SYS_pidfd_open) return attempt(FailingCall::watch, call);
  return call();
}

}  // extern "C"
