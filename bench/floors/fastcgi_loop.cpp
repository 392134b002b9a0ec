// The floor for persistent interpreters: a bare FastCGI client. It starts the processes, has a request ready, sends it
// to each as soon as the response to the one before has ended, and does nothing else: no HTTP, no parsing beyond the
// lengths of records.
//
// fastcgi_loop PROCESSES SECONDS BODY_BYTES SCRIPT COMMAND...
// The environment is that of the processes and, as parameters, of each request. Prints the requests answered in a
// second, and the seconds from the first byte of a request to the last of its response, as a median.
#include <poll.h>
#include <sys/socket.h>
#include <sys/wait.h>

#include <algorithm>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string>
#include <vector>

#include "fastcgi_peer.hpp"

namespace {

using Clock = std::chrono::steady_clock;

/// A process, and what is under way to it and back.
struct Turn {
  Peer peer;
  std::size_t sent = 0;
  std::string head;      // Of a record, as far as it is here.
  std::size_t left = 0;  // Of a record's content and padding.
  bool is_end = false;
  Clock::time_point begun;
};

}  // namespace

int main(int argc, char** argv) {
  if (argc < 6) return 2;
  const int count = std::atoi(argv[1]);
  const double seconds = std::atof(argv[2]);
  const std::string request = request_for(argv[4], static_cast<std::size_t>(std::atol(argv[3])));
  signal(SIGPIPE, SIG_IGN);
  std::vector<Turn> turns;
  for (int i = 0; i < count; ++i) turns.push_back({start(argv + 5)});
  std::vector<char> buffer(65536);
  std::vector<double> times;
  const auto begin = [&](Turn& turn) {
    turn.begun = Clock::now();
    turn.sent = 0;
  };
  const auto send_more = [&](Turn& turn) {
    const ssize_t sent =
        send(turn.peer.connection, request.data() + turn.sent, request.size() - turn.sent, MSG_DONTWAIT);
    if (sent > 0) turn.sent += static_cast<std::size_t>(sent);
  };
  // True once the request's end has come.
  const auto receive = [&](Turn& turn) {
    const ssize_t got = recv(turn.peer.connection, buffer.data(), buffer.size(), 0);
    if (got <= 0) std::exit(1);
    bool has_ended = false;
    for (std::size_t at = 0; at < static_cast<std::size_t>(got);) {
      if (turn.left > 0) {
        const std::size_t size = std::min(turn.left, static_cast<std::size_t>(got) - at);
        turn.left -= size;
        at += size;
        if (turn.left == 0 && turn.is_end) has_ended = true;
        continue;
      }
      turn.head += buffer[at++];
      if (turn.head.size() < 8) continue;
      const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(turn.head[i]); };
      turn.left = byte(4) * 256U + byte(5) + byte(6);
      turn.is_end = byte(1) == 3;
      turn.head.clear();
    }
    return has_ended;
  };
  std::vector<pollfd> polled(turns.size());
  for (Turn& turn : turns) {
    begin(turn);
    send_more(turn);
  }
  // What comes in the first moments pays for the starts.
  auto counts_from = Clock::now() + std::chrono::milliseconds(300);
  std::size_t answered = 0;
  for (auto now = Clock::now(); now < counts_from + std::chrono::duration<double>(seconds); now = Clock::now()) {
    if (turns.size() == 1 && turns[0].sent == request.size()) {
      polled[0].revents = POLLIN;
    } else {
      for (std::size_t i = 0; i < turns.size(); ++i)
        polled[i] = {turns[i].peer.connection,
                     static_cast<short>(turns[i].sent < request.size() ? POLLIN | POLLOUT : POLLIN), 0};
      poll(polled.data(), polled.size(), 1000);
    }
    for (std::size_t i = 0; i < turns.size(); ++i) {
      if ((polled[i].revents & POLLOUT) != 0) send_more(turns[i]);
      if ((polled[i].revents & (POLLIN | POLLHUP)) == 0 || !receive(turns[i])) continue;
      if (turns[i].begun > counts_from) {
        ++answered;
        times.push_back(std::chrono::duration<double>(Clock::now() - turns[i].begun).count());
      }
      begin(turns[i]);
      send_more(turns[i]);
    }
  }
  std::nth_element(times.begin(), times.begin() + static_cast<std::ptrdiff_t>(times.size() / 2), times.end());
  std::printf("%.1f %.6f\n", static_cast<double>(answered) / seconds, times.empty() ? 0 : times[times.size() / 2]);
  for (const Turn& turn : turns) {
    kill(turn.peer.process, SIGKILL);
    waitpid(turn.peer.process, nullptr, 0);
  }
  return 0;
}
