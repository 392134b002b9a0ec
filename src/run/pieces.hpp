// Bytes that lie in several places.
#pragma once

#include <array>
#include <cstddef>
#include <string_view>

namespace porter::run {

/// Pieces to be taken one behind the other. None of them is empty.
class Pieces {
 public:
  static constexpr std::size_t kMost = 4;

  Pieces() = default;
  explicit Pieces(std::string_view only) { add(only); }

  /// Unless it is empty; there must be room.
  void add(std::string_view piece) {
    if (!piece.empty()) pieces_[count_++] = piece;
  }
  bool is_full() const { return count_ == kMost; }
  bool empty() const { return count_ == 0; }
  const std::string_view* begin() const { return pieces_.data(); }
  const std::string_view* end() const { return pieces_.data() + count_; }
  /// Bytes of all of them.
  std::size_t size() const {
    std::size_t out = 0;
    for (const std::string_view piece : *this) out += piece.size();
    return out;
  }

 private:
  std::array<std::string_view, kMost> pieces_{};
  std::size_t count_ = 0;
};

}  // namespace porter::run
