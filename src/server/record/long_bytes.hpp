// Bytes of one direction of an exchange, where there are many of them.
//
// Memory from the system, of which no more is used than has bytes in it: it grows in place, or moves without being
// copied, and what was used before is at hand where new memory has to be made by the system, page by page.
#pragma once

#include <cstddef>
#include <string_view>

namespace porter::server {

class LongBytes {
 public:
  LongBytes() = default;
  ~LongBytes();
  LongBytes(LongBytes&& other) noexcept;
  LongBytes& operator=(LongBytes&& other) noexcept;
  LongBytes(const LongBytes&) = delete;
  LongBytes& operator=(const LongBytes&) = delete;

  /// Throws std::bad_alloc, and holds what it held before.
  void append(std::string_view bytes);
  std::string_view view() const { return {memory_, size_}; }
  bool is_empty() const { return size_ == 0; }
  /// Bytes of memory that it takes.
  std::size_t memory() const { return used_; }
  /// Gives back the memory behind its bytes.
  void shrink();
  /// Makes it empty; its memory stays.
  void clear() { size_ = 0; }

 private:
  void grow(std::size_t capacity);

  char* memory_ = nullptr;
  std::size_t size_ = 0;
  std::size_t used_ = 0;      ///< Bytes of the memory that were written to at some time, in whole pages.
  std::size_t capacity_ = 0;  ///< Bytes of addresses, behind which the system puts memory as they are used.
};

}  // namespace porter::server
