// See take_back.hpp.
#include "run/take_back.hpp"

#include <dirent.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <memory>
#include <string>

#include "core/files/descriptor.hpp"

namespace porter::run {
namespace {

/// Bytes that may lie before what is to be taken back: of the request before it, mostly the end of its input alone.
constexpr std::size_t kMostBefore = 4096;

files::Descriptor borrow(int process, int descriptor) {
  return files::Descriptor(static_cast<int>(::syscall(SYS_pidfd_getfd, process, descriptor, 0)));
}

/// What lies in a socket to be read, as far as `most` bytes; it stays there if `flags` say MSG_PEEK.
std::string waiting_in(int socket, std::size_t most, int flags) {
  std::string out(most, '\0');
  ssize_t got = 0;
  do got = ::recv(socket, out.data(), out.size(), flags | MSG_DONTWAIT);
  while (got < 0 && errno == EINTR);
  out.resize(got > 0 ? static_cast<std::size_t>(got) : 0);
  return out;
}

}  // namespace

bool can_take_back(int process) { return borrow(process, STDIN_FILENO).is_open(); }

bool take_back(int process, pid_t id, int connection, std::string_view text) {
  const std::string folder = "/proc/" + std::to_string(id) + "/fd";
  const std::unique_ptr<DIR, int (*)(DIR*)> open(::opendir(folder.c_str()), ::closedir);
  while (const dirent* const entry = open ? ::readdir(open.get()) : nullptr) {
    const int number = std::atoi(entry->d_name);
    if (number == STDIN_FILENO) continue;
    const files::Descriptor end = borrow(process, number);
    if (!end.is_open()) continue;
    // By what lies in it, it is known among all that the process has open.
    const std::string found = waiting_in(end.get(), text.size() + kMostBefore, MSG_PEEK);
    if (!std::string_view(found).ends_with(text)) continue;
    const std::string taken = waiting_in(end.get(), found.size(), 0);
    // What came before goes back, and all of it if the process has begun in this moment, and waits for the rest.
    const bool is_whole = taken.size() >= text.size();
    const std::size_t rest = is_whole ? taken.size() - text.size() : taken.size();
    if (rest > 0) ::send(connection, taken.data(), rest, MSG_NOSIGNAL);
    return is_whole;
  }
  return false;
}

}  // namespace porter::run
