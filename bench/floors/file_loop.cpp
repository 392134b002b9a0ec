// The floor for files: a bare epoll loop on one thread that opens, stats, reads (or sends) and writes the same file for
// whatever it receives, and parses nothing.
//
//     file_loop read|sendfile PORT FILE
#include <fcntl.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <sys/epoll.h>
#include <sys/sendfile.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string>
#include <vector>

namespace {

/// What is still to be sent on a connection, when it would not take everything at once.
struct Pending {
  int file = -1;
  off_t at = 0;
  off_t size = 0;
};

std::string head_for(off_t size) {
  return "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: " + std::to_string(size) + "\r\n\r\n";
}

void answer_by_reading(int client, const char* path, std::vector<char>& buffer) {
  const int file = ::open(path, O_RDONLY | O_CLOEXEC);
  struct stat info {};
  ::fstat(file, &info);
  const std::string head = head_for(info.st_size);
  std::memcpy(buffer.data(), head.data(), head.size());
  const ssize_t got = ::read(file, buffer.data() + head.size(), static_cast<std::size_t>(info.st_size));
  ::close(file);
  if (::write(client, buffer.data(), head.size() + static_cast<std::size_t>(got)) < 0) std::perror("write");
}

/// Sends on; closes the file once all of it is sent.
void send_on(int client, Pending& pending) {
  while (pending.at < pending.size) {
    const ssize_t sent =
        ::sendfile(client, pending.file, &pending.at, static_cast<std::size_t>(pending.size - pending.at));
    if (sent <= 0) break;
  }
  if (pending.at < pending.size && errno == EAGAIN) return;
  ::close(pending.file);
  pending = {};
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 4) return 2;
  ::signal(SIGPIPE, SIG_IGN);
  const bool by_reading = std::strcmp(argv[1], "read") == 0;
  const int listener = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  const int on = 1;
  ::setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_port = htons(static_cast<std::uint16_t>(std::atoi(argv[2])));
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  if (::bind(listener, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0 || ::listen(listener, 1024) != 0) {
    std::perror("listen");
    return 1;
  }
  const int poller = ::epoll_create1(EPOLL_CLOEXEC);
  epoll_event event{EPOLLIN, {.fd = listener}};
  ::epoll_ctl(poller, EPOLL_CTL_ADD, listener, &event);
  std::vector<Pending> pending(4096);
  std::vector<char> buffer(128 * 1024);
  std::array<epoll_event, 256> events;
  std::array<char, 4096> request;
  for (;;) {
    const int count = ::epoll_wait(poller, events.data(), static_cast<int>(events.size()), -1);
    for (int i = 0; i < count; ++i) {
      const int fd = events[static_cast<std::size_t>(i)].data.fd;
      if (fd == listener) {
        const int client = ::accept4(listener, nullptr, nullptr, SOCK_NONBLOCK | SOCK_CLOEXEC);
        ::setsockopt(client, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
        epoll_event added{EPOLLIN | (by_reading ? 0U : static_cast<unsigned>(EPOLLOUT) | EPOLLET), {.fd = client}};
        ::epoll_ctl(poller, EPOLL_CTL_ADD, client, &added);
        continue;
      }
      Pending& rest = pending[static_cast<std::size_t>(fd)];
      if (rest.file >= 0) send_on(fd, rest);
      if (rest.file >= 0 || (events[static_cast<std::size_t>(i)].events & EPOLLIN) == 0) continue;
      const ssize_t got = ::recv(fd, request.data(), request.size(), 0);
      if (got < 0 && errno == EAGAIN) continue;
      if (got <= 0) {
        ::close(fd);
        continue;
      }
      if (by_reading) {
        answer_by_reading(fd, argv[3], buffer);
        continue;
      }
      rest.file = ::open(argv[3], O_RDONLY | O_CLOEXEC);
      struct stat info {};
      ::fstat(rest.file, &info);
      rest.size = info.st_size;
      const std::string head = head_for(info.st_size);
      if (::send(fd, head.data(), head.size(), MSG_MORE) < 0) std::perror("send");
      send_on(fd, rest);
    }
  }
}
