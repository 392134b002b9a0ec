// The programs that the script benchmarks run: a small page, a large one ("stream"), and one that tells the time at
// which it writes ("tick").
#include <unistd.h>

#include <cstdio>
#include <cstring>
#include <ctime>
#include <string>

int main(int, char** argv) {
  const char* const slash = std::strrchr(argv[0], '/');
  const std::string name = slash == nullptr ? argv[0] : slash + 1;
  std::fputs("Content-Type: text/plain\n\n", stdout);
  if (name == "stream") {
    std::fflush(stdout);
    const std::string piece(65536, 'g');
    for (int i = 0; i < 16384; ++i)
      if (::write(STDOUT_FILENO, piece.data(), piece.size()) < 0) return 1;
  } else if (name == "tick") {
    for (int i = 0; i < 20; ++i) {
      timespec now{};
      ::clock_gettime(CLOCK_MONOTONIC, &now);
      std::printf("%lld\n", static_cast<long long>(now.tv_sec) * 1000000000 + now.tv_nsec);
      std::fflush(stdout);
      ::usleep(30000);
    }
  } else {
    std::puts("07:40 Skerry Head to Morrow Bay, Kittiwake, 35 minutes.");
  }
}
