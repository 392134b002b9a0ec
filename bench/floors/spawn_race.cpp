// The floor for scripts, raced against the server: bare loops of posix_spawn, read and wait of one program, as many
// side by side as asked for, and as many connections on which the server is asked to run the same program.
//
//     spawn_race PORT PATH SIDE_BY_SIDE TURNS PROGRAM [ARGUMENT…]
//
// They take turns of a quarter of a second, since the speed of a shared machine changes from one second to the next.
// Each pair of turns gives a line: runs per second of the loops, and of the server. The program is given the
// environment of this one, so that it has as much to do as below the server.
#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <spawn.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <string>
#include <vector>

namespace {

using Clock = std::chrono::steady_clock;
constexpr std::chrono::milliseconds kTurn{250};

[[noreturn]] void give_up(const char* what) {
  std::perror(what);
  std::exit(1);
}

/// One after the other: a program, or a request.
class Lane {
 public:
  virtual ~Lane() = default;
  virtual void begin() = 0;
  /// What poll() shall wait for.
  virtual int waits_for() const = 0;
  /// Reads what is there. True: it is done.
  virtual bool read_on() = 0;
};

class SpawnLane : public Lane {
 public:
  explicit SpawnLane(char** arguments) : arguments_(arguments) {}

  void begin() override {
    std::array<int, 2> ends{};
    if (::pipe2(ends.data(), O_CLOEXEC) != 0) give_up("pipe");
    posix_spawn_file_actions_t actions;
    ::posix_spawn_file_actions_init(&actions);
    ::posix_spawn_file_actions_addopen(&actions, 0, "/dev/null", O_RDONLY, 0);
    ::posix_spawn_file_actions_adddup2(&actions, ends[1], 1);
    if (::posix_spawn(&id_, arguments_[0], &actions, nullptr, arguments_, environ) != 0) give_up(arguments_[0]);
    ::posix_spawn_file_actions_destroy(&actions);
    ::close(ends[1]);
    output_ = ends[0];
  }
  int waits_for() const override { return output_; }
  bool read_on() override {
    static std::array<char, 65536> buffer;
    if (::read(output_, buffer.data(), buffer.size()) > 0) return false;
    ::close(output_);
    ::waitpid(id_, nullptr, 0);
    return true;
  }

 private:
  char** arguments_;
  pid_t id_ = 0;
  int output_ = -1;
};

class RequestLane : public Lane {
 public:
  RequestLane(int port, const std::string& path)
      : request_("GET " + path + " HTTP/1.1\r\nHost: localhost\r\n\r\n"),
        socket_(::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0)) {
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_port = htons(static_cast<std::uint16_t>(port));
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    if (::connect(socket_, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0) give_up("connect");
    const int yes = 1;
    ::setsockopt(socket_, IPPROTO_TCP, TCP_NODELAY, &yes, sizeof yes);
  }
  RequestLane(const RequestLane&) = delete;
  RequestLane& operator=(const RequestLane&) = delete;
  ~RequestLane() override { ::close(socket_); }

  void begin() override {
    response_.clear();
    if (::send(socket_, request_.data(), request_.size(), MSG_NOSIGNAL) < 0) give_up("send");
  }
  int waits_for() const override { return socket_; }
  bool read_on() override {
    static std::array<char, 65536> buffer;
    const ssize_t got = ::read(socket_, buffer.data(), buffer.size());
    if (got <= 0) give_up("the server closed the connection");
    response_.append(buffer.data(), static_cast<std::size_t>(got));
    return is_whole();
  }

 private:
  bool is_whole() const {
    constexpr std::string_view kLength = "\r\nContent-Length: ";
    if (response_.rfind("HTTP/1.1 200 ", 0) != 0) give_up(response_.c_str());
    const std::size_t head = response_.find("\r\n\r\n");
    if (head == response_.npos) return false;
    const std::size_t length = response_.find(kLength);
    if (length >= head) return response_.compare(response_.size() - 5, 5, "0\r\n\r\n") == 0;
    return response_.size() - head - 4 == std::strtoul(response_.c_str() + length + kLength.size(), nullptr, 10);
  }

  std::string request_;
  std::string response_;
  int socket_;
};

/// Runs per second over one turn, from the first beginning to the last end.
double take_turn(const std::vector<Lane*>& lanes) {
  std::vector<pollfd> waits;
  const auto begun = Clock::now();
  for (Lane* const lane : lanes) lane->begin();
  for (const Lane* const lane : lanes) waits.push_back({lane->waits_for(), POLLIN, 0});
  long runs = 0;
  std::size_t busy = lanes.size();
  while (busy > 0) {
    if (::poll(waits.data(), waits.size(), 10'000) <= 0) give_up("nothing comes");
    for (std::size_t i = 0; i < lanes.size(); ++i) {
      if (waits[i].revents == 0 || !lanes[i]->read_on()) continue;
      ++runs;
      if (Clock::now() - begun < kTurn) {
        lanes[i]->begin();
        waits[i].fd = lanes[i]->waits_for();
      } else {
        waits[i].fd = -1;  // poll() passes it by.
        --busy;
      }
    }
  }
  return static_cast<double>(runs) / std::chrono::duration<double>(Clock::now() - begun).count();
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 6) return 2;
  std::vector<Lane*> loops;
  std::vector<Lane*> requests;
  for (int i = 0; i < std::atoi(argv[3]); ++i) {
    loops.push_back(new SpawnLane(argv + 5));
    requests.push_back(new RequestLane(std::atoi(argv[1]), argv[2]));
  }
  for (int turn = -1; turn < std::atoi(argv[4]); ++turn) {
    const double floor = take_turn(loops);
    const double product = take_turn(requests);
    if (turn >= 0) std::printf("%.1f %.1f\n", floor, product);  // The first turns warm up.
  }
  for (Lane* const lane : loops) delete lane;
  for (Lane* const lane : requests) delete lane;
}
