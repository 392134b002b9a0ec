// Telling the kinds of descriptors apart. See patient_writer.hpp.
#include "server/record/patient_writer.hpp"

#include <fcntl.h>
#include <poll.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <climits>
#include <string>

namespace porter::server {

PatientWriter::PatientWriter(int out) : out_(out) {
  struct stat info {};
  if (::fstat(out, &info) != 0 || S_ISREG(info.st_mode)) return;
  if (S_ISSOCK(info.st_mode)) {
    kind_ = Kind::socket;
    return;
  }
  // Its flags belong to everybody who has it open, the shell included, so they are left alone. A pipe and a terminal
  // can be opened once more, with flags of our own.
  own_.reset(::open(("/proc/self/fd/" + std::to_string(out)).c_str(), O_WRONLY | O_NONBLOCK | O_NOCTTY | O_CLOEXEC));
  kind_ = own_.is_open() ? Kind::own_flags : Kind::others_flags;
  if (own_.is_open()) out_ = own_.get();
}

PatientWriter::Written PatientWriter::write(std::string_view text, std::chrono::milliseconds patience) {
  Written done;
  const auto end = std::chrono::steady_clock::now() + patience;
  while (done.bytes < text.size()) {
    std::string_view rest = text.substr(done.bytes);
    if (kind_ != Kind::never_blocks) {
      const auto left = std::chrono::ceil<std::chrono::milliseconds>(end - std::chrono::steady_clock::now());
      pollfd ready{out_, POLLOUT, 0};
      const int count = ::poll(&ready, 1, static_cast<int>(std::max<long>(left.count(), 0)));
      if (count < 0 && errno == EINTR) continue;
      if (count <= 0) break;
    }
    // Where it might block in spite of all, no more is written than a pipe that is ready takes at once.
    if (kind_ == Kind::others_flags) rest = rest.substr(0, PIPE_BUF);
    const ssize_t written = kind_ == Kind::socket ? ::send(out_, rest.data(), rest.size(), MSG_DONTWAIT | MSG_NOSIGNAL)
                                                  : ::write(out_, rest.data(), rest.size());
    if (written >= 0) {
      done.bytes += static_cast<std::size_t>(written);
    } else if (errno != EINTR && errno != EAGAIN) {
      done.error = errno;
      break;
    }
  }
  return done;
}

}  // namespace porter::server
