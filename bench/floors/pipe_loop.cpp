// The floor for a streamed response: one program's output read from a pipe and written to a socket, and nothing else.
//
//     pipe_loop PORT PROGRAM [ARGUMENT…]       runs the program anew for each connection, after what it sends first
#include <fcntl.h>
#include <netinet/in.h>
#include <spawn.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <csignal>
#include <cstdint>
#include <cstdlib>

namespace {

/// Passes the program's output on to `client`, the head that the program writes among it.
void stream(int client, char** arguments) {
  std::array<int, 2> ends{};
  if (::pipe2(ends.data(), O_CLOEXEC) != 0) std::exit(1);
  posix_spawn_file_actions_t actions;
  ::posix_spawn_file_actions_init(&actions);
  ::posix_spawn_file_actions_adddup2(&actions, ends[1], 1);
  pid_t id = 0;
  if (::posix_spawn(&id, arguments[0], &actions, nullptr, arguments, environ) != 0) std::exit(1);
  ::posix_spawn_file_actions_destroy(&actions);
  ::close(ends[1]);
  std::array<char, 65536> buffer;
  for (;;) {
    const ssize_t got = ::read(ends[0], buffer.data(), buffer.size());
    if (got <= 0) break;
    for (ssize_t at = 0; at < got;) {
      const ssize_t sent = ::send(client, buffer.data() + at, static_cast<std::size_t>(got - at), MSG_NOSIGNAL);
      if (sent <= 0) break;
      at += sent;
    }
  }
  ::close(ends[0]);
  ::waitpid(id, nullptr, 0);
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 3) return 2;
  ::signal(SIGPIPE, SIG_IGN);
  const int listener = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  const int on = 1;
  ::setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_port = htons(static_cast<std::uint16_t>(std::atoi(argv[1])));
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  if (::bind(listener, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0 || ::listen(listener, 16) != 0)
    return 1;
  for (;;) {
    const int client = ::accept4(listener, nullptr, nullptr, SOCK_CLOEXEC);
    std::array<char, 4096> request;
    if (::recv(client, request.data(), request.size(), 0) > 0) stream(client, argv + 2);
    ::close(client);
  }
}
