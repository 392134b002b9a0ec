// The floor for kept interpreters: a bare FastCGI client. It starts the processes, has a request ready, sends it to
// each as soon as the answer to the one before has ended, and does nothing else: no HTTP, no parsing beyond the lengths
// of records.
//
// fastcgi_loop PROCESSES SECONDS BODY_BYTES SCRIPT COMMAND...
// The environment is that of the processes and, as parameters, of each request. Prints the requests answered in a
// second, and the seconds from the first byte of a request to the last of its answer, as a median.
#include <fcntl.h>
#include <poll.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string>
#include <string_view>
#include <vector>

extern char** environ;

namespace {

using Clock = std::chrono::steady_clock;

void append_record(std::string& out, int type, std::string_view content) {
  do {
    const std::string_view piece = content.substr(0, 32768);
    content.remove_prefix(piece.size());
    const char header[8] = {1,
                            static_cast<char>(type),
                            0,
                            1,
                            static_cast<char>(piece.size() >> 8),
                            static_cast<char>(piece.size() & 0xff),
                            0,
                            0};
    out.append(header, sizeof header);
    out += piece;
  } while (!content.empty());
}

void append_length(std::string& out, std::size_t length) {
  if (length < 128) {
    out += static_cast<char>(length);
  } else {
    for (const int shift : {24, 16, 8, 0})
      out += static_cast<char>(((length >> shift) & 0xff) | (shift == 24 ? 0x80 : 0));
  }
}

std::string request_for(const std::string& script, std::size_t body) {
  std::string out;
  append_record(out, 1, std::string_view("\0\1\1\0\0\0\0\0", 8));
  std::string pairs;
  const auto add = [&pairs](std::string_view name, std::string_view value) {
    append_length(pairs, name.size());
    append_length(pairs, value.size());
    pairs += name;
    pairs += value;
  };
  for (char** variable = environ; *variable != nullptr; ++variable) {
    const std::string_view all = *variable;
    const std::size_t equals = all.find('=');
    if (equals != all.npos) add(all.substr(0, equals), all.substr(equals + 1));
  }
  add("SCRIPT_FILENAME", script);
  add("REQUEST_METHOD", body > 0 ? "POST" : "GET");
  if (body > 0) add("CONTENT_LENGTH", std::to_string(body));
  if (body > 0) add("CONTENT_TYPE", "application/octet-stream");
  append_record(out, 4, pairs);
  append_record(out, 4, {});
  if (body > 0) append_record(out, 5, std::string(body, 'k'));
  append_record(out, 5, {});
  return out;
}

struct Peer {
  pid_t process = 0;
  int connection = -1;
  std::size_t sent = 0;
  std::string head;      // Of a record, as far as it is here.
  std::size_t left = 0;  // Of a record's content and padding.
  bool is_end = false;
  Clock::time_point begun;
};

Peer start(char** command) {
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  std::snprintf(address.sun_path, sizeof address.sun_path, "/tmp/fastcgi-loop-%d-%d", getpid(), std::rand());
  const int listener = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
  if (bind(listener, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0 || listen(listener, 1) != 0)
    std::exit(1);
  Peer peer;
  peer.process = fork();
  if (peer.process == 0) {
    dup2(listener, 0);
    const int null = open("/dev/null", O_WRONLY);
    dup2(null, 1);
    execv(command[0], command);
    _exit(127);
  }
  peer.connection = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
  if (connect(peer.connection, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0) std::exit(1);
  unlink(address.sun_path);
  close(listener);
  return peer;
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 6) return 2;
  const int count = std::atoi(argv[1]);
  const double seconds = std::atof(argv[2]);
  const std::string request = request_for(argv[4], static_cast<std::size_t>(std::atol(argv[3])));
  signal(SIGPIPE, SIG_IGN);
  std::vector<Peer> peers;
  for (int i = 0; i < count; ++i) peers.push_back(start(argv + 5));
  std::vector<char> buffer(65536);
  std::vector<double> times;
  const auto begin = [&](Peer& peer) {
    peer.begun = Clock::now();
    peer.sent = 0;
  };
  const auto send_more = [&](Peer& peer) {
    const ssize_t sent = send(peer.connection, request.data() + peer.sent, request.size() - peer.sent, MSG_DONTWAIT);
    if (sent > 0) peer.sent += static_cast<std::size_t>(sent);
  };
  // True once the request's end has come.
  const auto receive = [&](Peer& peer) {
    const ssize_t got = recv(peer.connection, buffer.data(), buffer.size(), 0);
    if (got <= 0) std::exit(1);
    bool has_ended = false;
    for (std::size_t at = 0; at < static_cast<std::size_t>(got);) {
      if (peer.left > 0) {
        const std::size_t size = std::min(peer.left, static_cast<std::size_t>(got) - at);
        peer.left -= size;
        at += size;
        if (peer.left == 0 && peer.is_end) has_ended = true;
        continue;
      }
      peer.head += buffer[at++];
      if (peer.head.size() < 8) continue;
      const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(peer.head[i]); };
      peer.left = byte(4) * 256U + byte(5) + byte(6);
      peer.is_end = byte(1) == 3;
      peer.head.clear();
    }
    return has_ended;
  };
  std::vector<pollfd> polled(peers.size());
  for (Peer& peer : peers) {
    begin(peer);
    send_more(peer);
  }
  // What comes in the first moments pays for the starts.
  auto counts_from = Clock::now() + std::chrono::milliseconds(300);
  std::size_t answered = 0;
  for (auto now = Clock::now(); now < counts_from + std::chrono::duration<double>(seconds); now = Clock::now()) {
    if (peers.size() == 1 && peers[0].sent == request.size()) {
      polled[0].revents = POLLIN;
    } else {
      for (std::size_t i = 0; i < peers.size(); ++i)
        polled[i] = {peers[i].connection,
                     static_cast<short>(peers[i].sent < request.size() ? POLLIN | POLLOUT : POLLIN), 0};
      poll(polled.data(), polled.size(), 1000);
    }
    for (std::size_t i = 0; i < peers.size(); ++i) {
      if ((polled[i].revents & POLLOUT) != 0) send_more(peers[i]);
      if ((polled[i].revents & (POLLIN | POLLHUP)) == 0 || !receive(peers[i])) continue;
      if (peers[i].begun > counts_from) {
        ++answered;
        times.push_back(std::chrono::duration<double>(Clock::now() - peers[i].begun).count());
      }
      begin(peers[i]);
      send_more(peers[i]);
    }
  }
  std::nth_element(times.begin(), times.begin() + static_cast<std::ptrdiff_t>(times.size() / 2), times.end());
  std::printf("%.1f %.6f\n", static_cast<double>(answered) / seconds, times.empty() ? 0 : times[times.size() / 2]);
  for (const Peer& peer : peers) {
    kill(peer.process, SIGKILL);
    waitpid(peer.process, nullptr, 0);
  }
  return 0;
}
