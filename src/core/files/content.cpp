// Reading a file. See content.hpp.
#include "core/files/content.hpp"

#include <unistd.h>

#include <array>
#include <cerrno>
#include <fstream>
#include <iterator>

namespace porter::files {

std::optional<std::string> content_of(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  if (!file) return std::nullopt;
  std::string content(std::istreambuf_iterator<char>(file), {});
  if (file.bad()) return std::nullopt;
  return content;
}

std::optional<std::string> content_of(const Descriptor& file, std::size_t most) {
  std::string content;
  std::array<char, 16384> buffer;
  for (;;) {
    const ssize_t got = ::pread(file.get(), buffer.data(), buffer.size(), static_cast<off_t>(content.size()));
    if (got < 0 && errno == EINTR) continue;
    if (got < 0 || content.size() + static_cast<std::size_t>(got) > most) return std::nullopt;
    if (got == 0) return content;
    content.append(buffer.data(), static_cast<std::size_t>(got));
  }
}

}  // namespace porter::files
