// The floor for persistent interpreters behind HTTP: a bare epoll loop on one thread that asks a process for the same
// page for whatever it receives, and parses nothing beyond the lengths of records and the end of the page's head.
//
// fastcgi_front PORT PROCESSES SCRIPT COMMAND...
// The environment is that of the processes and, as parameters, of each request. A page that comes at once has a length;
// a longer one is passed on in chunks as it comes.
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/epoll.h>
#include <sys/uio.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <csignal>
#include <cstring>
#include <deque>
#include <vector>

#include "fastcgi_peer.hpp"

namespace {

struct Turn {
  Peer peer;
  int client = -1;  ///< Who is answered; -1: nobody.
  bool has_head = false;
  std::string header;  ///< Of a record, as far as it is here.
  std::size_t content = 0;
  std::size_t padding = 0;
};

/// Sends all of `text`, and waits for its reader where it must.
void send_all(int client, std::string_view text) {
  while (!text.empty()) {
    const ssize_t sent = send(client, text.data(), text.size(), 0);
    if (sent < 0 && errno != EAGAIN) return;
    text.remove_prefix(static_cast<std::size_t>(std::max<ssize_t>(sent, 0)));
    pollfd wait{client, POLLOUT, 0};
    if (!text.empty()) poll(&wait, 1, -1);
  }
}

void send_chunk(int client, std::string_view piece) {
  char size[20];
  const int length = std::snprintf(size, sizeof size, "%zx\r\n", piece.size());
  iovec parts[] = {{size, static_cast<std::size_t>(length)},
                   {const_cast<char*>(piece.data()), piece.size()},
                   {const_cast<char*>("\r\n"), 2}};
  const std::size_t all = parts[0].iov_len + piece.size() + 2;
  const std::size_t sent = static_cast<std::size_t>(std::max<ssize_t>(writev(client, parts, 3), 0));
  if (sent == all) return;
  std::string rest = std::string(size, parts[0].iov_len).append(piece).append("\r\n");
  send_all(client, std::string_view(rest).substr(sent));
}

/// The page in a response that is whole, as it is sent to the client; empty if it is not.
std::string page_of(std::string_view response) {
  std::string page;
  while (response.size() >= 8) {
    const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(response[i]); };
    const std::size_t content = byte(4) * 256U + byte(5);
    if (response.size() < 8 + content + byte(6)) return {};
    if (byte(1) == 3) return page;
    if (byte(1) == 6 && content > 0) {
      const std::string_view output = response.substr(8, content);
      const std::string_view body = output.substr(output.find("\r\n\r\n") + 4);
      page =
          "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: " + std::to_string(body.size()) + "\r\n\r\n";
      page += body;
    }
    response.remove_prefix(8 + content + byte(6));
  }
  return {};
}

/// Passes on what came of a longer one. True: it has ended.
bool pass_on(Turn& turn, std::string_view bytes) {
  while (!bytes.empty()) {
    if (turn.header.size() < 8) {
      const std::size_t missing = std::min<std::size_t>(8 - turn.header.size(), bytes.size());
      turn.header += bytes.substr(0, missing);
      bytes.remove_prefix(missing);
      if (turn.header.size() < 8) return false;
      const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(turn.header[i]); };
      turn.content = byte(4) * 256U + byte(5);
      turn.padding = byte(6);
    }
    std::string_view piece = bytes.substr(0, turn.content);
    bytes.remove_prefix(piece.size());
    turn.content -= piece.size();
    if (turn.header[1] == 6 && !piece.empty()) {
      if (!turn.has_head) {
        piece.remove_prefix(piece.find("\r\n\r\n") + 4);
        send_all(turn.client, "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nTransfer-Encoding: chunked\r\n\r\n");
        turn.has_head = true;
      }
      if (!piece.empty()) send_chunk(turn.client, piece);
    }
    const std::size_t skipped = std::min(turn.padding, bytes.size());
    bytes.remove_prefix(skipped);
    turn.padding -= skipped;
    if (turn.content > 0 || turn.padding > 0) return false;
    const bool is_end = turn.header[1] == 3;
    turn.header.clear();
    if (!is_end) continue;
    send_all(turn.client, "0\r\n\r\n");
    turn.has_head = false;
    return true;
  }
  return false;
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
    turns.push_back({.peer = start(argv + 4)});
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
      const std::string_view came(buffer.data(), static_cast<std::size_t>(got));
      const std::string page = of_peer->has_head ? "" : page_of(came);
      if (!page.empty()) {
        const int client = of_peer->client;
        ask(*of_peer);
        send_all(client, page);
      } else if (pass_on(*of_peer, came)) {
        ask(*of_peer);
      }
    }
  }
}
