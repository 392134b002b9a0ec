// The floor for scripts: bare loops of posix_spawn, read and wait of one program, as many side by side as asked for.
//
//     spawn_loop SIDE_BY_SIDE SECONDS PROGRAM [ARGUMENT…]       prints runs per second
//
// The program is given the environment of the loop, so that it has as much to do as below the server.
#include <fcntl.h>
#include <poll.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <vector>

namespace {

struct Slot {
  pid_t id = 0;
  int output = -1;
};

void start(Slot& slot, char** arguments) {
  std::array<int, 2> ends{};
  if (::pipe2(ends.data(), O_CLOEXEC) != 0) std::exit(1);
  posix_spawn_file_actions_t actions;
  ::posix_spawn_file_actions_init(&actions);
  ::posix_spawn_file_actions_addopen(&actions, 0, "/dev/null", O_RDONLY, 0);
  ::posix_spawn_file_actions_adddup2(&actions, ends[1], 1);
  if (::posix_spawn(&slot.id, arguments[0], &actions, nullptr, arguments, environ) != 0) std::exit(1);
  ::posix_spawn_file_actions_destroy(&actions);
  ::close(ends[1]);
  slot.output = ends[0];
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 4) return 2;
  std::vector<Slot> slots(static_cast<std::size_t>(std::atoi(argv[1])));
  const auto begun = std::chrono::steady_clock::now();
  const auto end = begun + std::chrono::seconds(std::atoi(argv[2]));
  for (Slot& slot : slots) start(slot, argv + 3);
  long runs = 0;
  std::vector<pollfd> waits(slots.size());
  std::array<char, 65536> buffer;
  while (std::chrono::steady_clock::now() < end) {
    for (std::size_t i = 0; i < slots.size(); ++i) waits[i] = {slots[i].output, POLLIN, 0};
    if (::poll(waits.data(), waits.size(), 1000) <= 0) continue;
    for (std::size_t i = 0; i < slots.size(); ++i) {
      if (waits[i].revents == 0 || ::read(slots[i].output, buffer.data(), buffer.size()) > 0) continue;
      ::close(slots[i].output);
      ::waitpid(slots[i].id, nullptr, 0);
      ++runs;
      start(slots[i], argv + 3);
    }
  }
  const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
  std::printf("%.1f\n", static_cast<double>(runs) / seconds);
  for (Slot& slot : slots) ::waitpid(slot.id, nullptr, 0);
}
