// Loaded into a server before it starts (LD_PRELOAD): makes 1 GiB of its memory resident, to show that starting a
// script costs the same however large the server is.
#include <sys/mman.h>

#include <cstddef>
#include <cstdlib>

namespace {

struct Ballast {
  Ballast() {
    // Only for the server: what it starts would carry it too.
    ::unsetenv("LD_PRELOAD");
    constexpr std::size_t kSize = std::size_t{1} << 30;
    // Populated, it is resident from the start; small pages are what a server's heap mostly has.
    void* const memory = ::mmap(nullptr, kSize, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    if (memory == MAP_FAILED) std::abort();
    ::madvise(memory, kSize, MADV_NOHUGEPAGE);
    for (std::size_t at = 0; at < kSize; at += 4096) static_cast<volatile char*>(memory)[at] = 1;
  }
} const ballast;

}  // namespace
