// Loaded before a program, this makes one of its allocations fail: the one to which the counter in the shared file that
// PORTER_FAILING_NEW names counts down. A counter of 0 or less fails nothing.
#include <fcntl.h>
#include <sys/mman.h>
#include <unistd.h>

#include <atomic>
#include <cstdlib>
#include <new>

namespace {

using Counter = std::atomic<long>;

Counter* counter() {
  static Counter* const shared = [] {
    const char* const path = std::getenv("PORTER_FAILING_NEW");
    const int file = path == nullptr ? -1 : ::open(path, O_RDWR | O_CLOEXEC);
    void* const memory =
        file < 0 ? MAP_FAILED : ::mmap(nullptr, sizeof(Counter), PROT_READ | PROT_WRITE, MAP_SHARED, file, 0);
    if (file >= 0) ::close(file);
    return memory == MAP_FAILED ? nullptr : static_cast<Counter*>(memory);
  }();
  return shared;
}

void* allocate(std::size_t size, std::size_t alignment = 0) {
  Counter* const left = counter();
  if (left != nullptr && left->load(std::memory_order_relaxed) > 0 && left->fetch_sub(1) == 1) throw std::bad_alloc();
  void* const memory = alignment == 0 ? std::malloc(size)
                                      : std::aligned_alloc(alignment, (size + alignment - 1) / alignment * alignment);
  if (memory == nullptr) throw std::bad_alloc();
  return memory;
}

void* try_to_allocate(std::size_t size) noexcept {
  try {
    return allocate(size);
  } catch (const std::bad_alloc&) {
    return nullptr;
  }
}

}  // namespace

void* operator new(std::size_t size) { return allocate(size); }
void* operator new[](std::size_t size) { return allocate(size); }
void* operator new(std::size_t size, std::align_val_t alignment) {
  return allocate(size, static_cast<std::size_t>(alignment));
}
void* operator new[](std::size_t size, std::align_val_t alignment) {
  return allocate(size, static_cast<std::size_t>(alignment));
}
void* operator new(std::size_t size, const std::nothrow_t&) noexcept { return try_to_allocate(size); }
void* operator new[](std::size_t size, const std::nothrow_t&) noexcept { return try_to_allocate(size); }
void operator delete(void* memory) noexcept { std::free(memory); }
void operator delete[](void* memory) noexcept { std::free(memory); }
void operator delete(void* memory, std::size_t) noexcept { std::free(memory); }
void operator delete[](void* memory, std::size_t) noexcept { std::free(memory); }
void operator delete(void* memory, std::align_val_t) noexcept { std::free(memory); }
void operator delete[](void* memory, std::align_val_t) noexcept { std::free(memory); }
void operator delete(void* memory, std::size_t, std::align_val_t) noexcept { std::free(memory); }
void operator delete[](void* memory, std::size_t, std::align_val_t) noexcept { std::free(memory); }
