// See long_bytes.hpp.
#include "server/record/long_bytes.hpp"

#include <sys/mman.h>

#include <algorithm>
#include <new>
#include <utility>

namespace porter::server {
namespace {

constexpr std::size_t kMemoryPage = 4096;
constexpr std::size_t kFirst = 256 * 1024;

std::size_t whole_pages(std::size_t bytes) { return (bytes + kMemoryPage - 1) / kMemoryPage * kMemoryPage; }

}  // namespace

LongBytes::~LongBytes() {
  if (memory_ != nullptr) ::munmap(memory_, capacity_);
}

LongBytes::LongBytes(LongBytes&& other) noexcept { *this = std::move(other); }

LongBytes& LongBytes::operator=(LongBytes&& other) noexcept {
  std::swap(memory_, other.memory_);
  std::swap(size_, other.size_);
  std::swap(used_, other.used_);
  std::swap(capacity_, other.capacity_);
  return *this;
}

void LongBytes::append(std::string_view bytes) {
  const std::size_t end = size_ + bytes.size();
  if (end > capacity_) grow(std::max({kFirst, 2 * capacity_, whole_pages(end)}));
  if (const std::size_t page_end = whole_pages(end); page_end > used_) {
    // All at once costs less than page by page. Where the system does not know how, it does that as they are written.
    ::madvise(memory_ + used_, page_end - used_, MADV_POPULATE_WRITE);
    used_ = page_end;
  }
  std::copy(bytes.begin(), bytes.end(), memory_ + size_);
  size_ = end;
}

void LongBytes::grow(std::size_t capacity) {
  void* const memory = memory_ == nullptr
                           ? ::mmap(nullptr, capacity, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0)
                           : ::mremap(memory_, capacity_, capacity, MREMAP_MAYMOVE);
  if (memory == MAP_FAILED) throw std::bad_alloc();
  memory_ = static_cast<char*>(memory);
  capacity_ = capacity;
}

void LongBytes::shrink() {
  const std::size_t needed = std::max(whole_pages(size_), kMemoryPage);
  if (memory_ == nullptr || needed >= capacity_) return;
  // Should it fail, the memory just stays.
  if (::mremap(memory_, capacity_, needed, 0) == MAP_FAILED) return;
  capacity_ = needed;
  used_ = std::min(used_, needed);
}

}  // namespace porter::server
