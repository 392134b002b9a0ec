// The floor for kept interpreters behind HTTP: a bare epoll loop on one thread that asks a process for the same page
// for whatever it receives, and parses nothing beyond the lengths of records and the end of the page's head.
//
// fastcgi_front PORT PROCESSES SCRIPT COMMAND...
// The environment is that of the processes and, as parameters, of each request. The page must fit one record.
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <sys/epoll.h>

#include <array>
#include <csignal>
#include <cstring>
#include <deque>
#include <vector>

#include "fastcgi_peer.hpp"

namespace {

struct Turn {
  Peer peer;
  int client = -1;     ///< Who is answered; -1: nobody.
  std::string answer;  ///< As far as it is here.
};

/// The page in a whole answer, as it is sent to the client; empty while it is not whole.
std::string page_of(std::string_view answer) {
  std::string page;
  while (answer.size() >= 8) {
    const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(answer[i]); };
    const std::size_t content = byte(4) * 256U + byte(5);
    if (answer.size() < 8 + content + byte(6)) return {};
    if (byte(1) == 3) return page;
    if (byte(1) == 6 && content > 0) {
      const std::string_view output = answer.substr(8, content);
      const std::string_view body = output.substr(output.find("\r\n\r\n") + 4);
      page = "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: " + std::to_string(body.size()) + "\r\n\r\n";
      page += body;
    }
    answer.remove_prefix(8 + content + byte(6));
  }
  return {};
}

int listen_at(int port) {
  const int listener = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  const int on = 1;
  setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_port = htons(static_cast<std::uint16_t>(port));
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  if (bind(listener, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0 || listen(listener, 1024) != 0) {
    std::perror("listen");
    std::exit(1);
  }
  return listener;
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 5) return 2;
  signal(SIGPIPE, SIG_IGN);
  // No process may outlast this one, however it ends.
  signal(SIGTERM, [](int) {
    kill(0, SIGKILL);
    _exit(0);
  });
  setpgid(0, 0);
  const std::string request = request_for(argv[3], 0);
  const int poller = epoll_create1(EPOLL_CLOEXEC);
  const auto watch = [&](int fd) {
    epoll_event event{EPOLLIN, {.fd = fd}};
    epoll_ctl(poller, EPOLL_CTL_ADD, fd, &event);
  };
  std::vector<Turn> turns;
  for (int i = 0; i < std::atoi(argv[2]); ++i) {
    turns.push_back({start(argv + 4)});
    watch(turns.back().peer.connection);
  }
  const int listener = listen_at(std::atoi(argv[1]));
  watch(listener);
  std::deque<int> waiting;
  std::array<epoll_event, 256> events;
  std::vector<char> buffer(65536);
  const auto ask = [&](Turn& turn) {
    turn.client = -1;
    if (waiting.empty()) return;
    turn.client = waiting.front();
    waiting.pop_front();
    send(turn.peer.connection, request.data(), request.size(), 0);
  };
  for (;;) {
    const int count = epoll_wait(poller, events.data(), static_cast<int>(events.size()), -1);
    for (int i = 0; i < count; ++i) {
      const int fd = events[static_cast<std::size_t>(i)].data.fd;
      if (fd == listener) {
        const int client = accept4(listener, nullptr, nullptr, SOCK_NONBLOCK | SOCK_CLOEXEC);
        const int on = 1;
        setsockopt(client, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
        watch(client);
        continue;
      }
      const ssize_t got = recv(fd, buffer.data(), buffer.size(), MSG_DONTWAIT);
      if (got < 0 && errno == EAGAIN) continue;
      Turn* of_peer = nullptr;
      for (Turn& turn : turns)
        if (turn.peer.connection == fd) of_peer = &turn;
      if (got <= 0) {
        if (of_peer != nullptr) return 1;
        close(fd);
        continue;
      }
      if (of_peer == nullptr) {
        waiting.push_back(fd);
        for (Turn& turn : turns)
          if (turn.client < 0) ask(turn);
        continue;
      }
      of_peer->answer.append(buffer.data(), static_cast<std::size_t>(got));
      const std::string page = page_of(of_peer->answer);
      if (page.empty()) continue;
      of_peer->answer.clear();
      const int client = of_peer->client;
      ask(*of_peer);
      send(client, page.data(), page.size(), 0);
    }
  }
}
