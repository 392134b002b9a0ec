// A passage: a pipe through which bytes go from one descriptor to another without being copied to here and back.
#pragma once

#include <sys/types.h>

#include <cstddef>
#include <memory>

#include "core/files/pipe.hpp"

namespace porter::run {

class Passage {
 public:
  /// Null: there are no descriptors left for one.
  static std::unique_ptr<Passage> make();
  Passage(const Passage&) = delete;
  Passage& operator=(const Passage&) = delete;

  /// Takes in what has come at `from`, at most `most` bytes, and does not wait. What read() gives, with errno. Requires
  /// that it is empty.
  ssize_t take(int from, std::size_t most);
  /// Hands `to` what it takes at once of the first `most` bytes in here. What write() gives, with errno.
  ssize_t give(int to, std::size_t most);
  /// Bytes in here.
  std::size_t size() const { return size_; }

 private:
  Passage() = default;

  files::Pipe pipe_;
  std::size_t size_ = 0;
};

}  // namespace porter::run
