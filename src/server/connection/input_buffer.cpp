// See input_buffer.hpp.
#include "server/connection/input_buffer.hpp"

#include <algorithm>

namespace porter::server {
namespace {

// A browser's request fits in one to two KiB; the buffer grows for those that do not, and shrinks again when idle.
constexpr std::size_t kSmallBuffer = 2 * 1024;

}  // namespace

InputBuffer::InputBuffer() : bytes_(kSmallBuffer) {}

void InputBuffer::consume(std::size_t count) {
  begin_ += count;
  if (begin_ == end_) begin_ = end_ = 0;
}

void InputBuffer::let_go() {
  const std::size_t count = held_;
  held_ = 0;
  consume(count);
}

std::span<char> InputBuffer::space(std::size_t most) {
  if (end_ == bytes_.size() && begin_ > 0) {
    std::copy(bytes_.data() + begin_, bytes_.data() + end_, bytes_.data());
    end_ -= begin_;
    begin_ = 0;
  }
  if (end_ == bytes_.size() && end_ < most) bytes_.resize(std::min(most, bytes_.size() * 4));
  return {bytes_.data() + end_, bytes_.size() - end_};
}

void InputBuffer::shrink() {
  if (bytes_.size() > kSmallBuffer) std::vector<char>(kSmallBuffer).swap(bytes_);
}

}  // namespace porter::server
