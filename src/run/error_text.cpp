// See error_text.hpp.
#include "run/error_text.hpp"

#include <unistd.h>

#include <array>
#include <cerrno>
#include <new>

namespace porter::run {

void ErrorText::add(std::string_view text) {
  try {
    text_ += text;
  } catch (const std::bad_alloc&) {
    return;  // Less is told then; a run's end must not hang on it.
  }
  if (text_.size() > 2 * limit_) finish();
}

bool ErrorText::read_from(int stream) {
  std::array<char, 4096> buffer;
  // As much as the largest pipe holds; a script that writes without end must not keep the server from all else.
  for (int piece = 0; piece < 256; ++piece) {
    const ssize_t got = ::read(stream, buffer.data(), buffer.size());
    if (got < 0 && errno == EINTR) continue;
    if (got <= 0) return got < 0 && errno == EAGAIN;
    add({buffer.data(), static_cast<std::size_t>(got)});
  }
  return true;
}

void ErrorText::finish() {
  if (text_.size() > limit_) text_.erase(0, text_.size() - limit_);
}

}  // namespace porter::run
