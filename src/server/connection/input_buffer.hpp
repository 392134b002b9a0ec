// The bytes that came over a connection and have not been used yet.
#pragma once

#include <cstddef>
#include <span>
#include <string_view>
#include <vector>

namespace porter::server {

/// What is held with hold() is let go of before anything is consumed. For one connection, on its thread.
class InputBuffer {
 public:
  InputBuffer();

  /// What has come and is neither used up nor held.
  std::string_view unread() const { return {bytes_.data() + begin_ + held_, end_ - begin_ - held_}; }
  bool is_empty() const { return begin_ + held_ == end_; }
  /// Uses up the first `count` unread bytes. Requires that nothing is held.
  void consume(std::size_t count);
  /// Forgets all that has come.
  void clear() { begin_ = end_ = held_ = 0; }

  /// Keeps the first `count` unread bytes where they are, for views into them, and takes them out of unread().
  void hold(std::size_t count) { held_ = count; }
  std::string_view held() const { return {bytes_.data() + begin_, held_}; }
  /// Uses them up.
  void let_go();

  /// Room behind what has come; it grows up to `most` bytes in all, and is empty only if that much is full. Requires
  /// that nothing is held.
  std::span<char> space(std::size_t most);
  /// Notes that `count` bytes have come into space().
  void add(std::size_t count) { end_ += count; }
  /// Makes it at least `size` bytes large, for what comes in large pieces.
  void widen(std::size_t size) {
    if (bytes_.size() < size) bytes_.resize(size);
  }
  /// Gives back what an earlier request has made it grow by. Requires that it is empty.
  void shrink();

 private:
  std::vector<char> bytes_;
  std::size_t begin_ = 0;
  std::size_t end_ = 0;
  std::size_t held_ = 0;  ///< From begin_ on.
};

}  // namespace porter::server
