// The end of what a script writes to its error stream, however much that is.
#pragma once

#include <cstddef>
#include <string>
#include <string_view>
#include <utility>

namespace porter::run {

class ErrorText {
 public:
  /// Of which `limit` bytes are kept in the end, and up to twice as many until then.
  explicit ErrorText(std::size_t limit) : limit_(limit) {}

  void add(std::string_view text);
  /// Adds what stands in `stream`, which does not block. False: it has been closed.
  bool read_from(int stream);
  /// Nothing more will be added.
  void finish();

  const std::string& text() const { return text_; }
  bool is_empty() const { return text_.empty(); }
  /// What has been added since this was asked last.
  std::string take() { return std::exchange(text_, {}); }

 private:
  std::size_t limit_;
  std::string text_;
};

}  // namespace porter::run
