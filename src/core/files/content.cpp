// Reading a file. See content.hpp.
#include "core/files/content.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstdio>
#include <memory>

namespace porter::files {

std::variant<std::string, SystemError> read_whole(const std::string& path) {
  const Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NOCTTY));
  if (!file.is_open()) return SystemError{errno};
  return read_rest(file);
}

std::variant<std::string, SystemError> read_rest(const Descriptor& file) {
  std::string content;
  std::array<char, 16384> buffer;
  for (;;) {
    // Not pread(): it may be a pipe.
    const ssize_t got = ::read(file.get(), buffer.data(), buffer.size());
    if (got < 0 && errno == EINTR) continue;
    if (got < 0) return SystemError{errno};
    if (got == 0) return content;
    if (content.size() + static_cast<std::size_t>(got) > kMostContent) return SystemError{EFBIG};
    content.append(buffer.data(), static_cast<std::size_t>(got));
  }
}

std::optional<std::string> content_of(const std::string& path) {
  auto content = read_whole(path);
  if (auto* const text = std::get_if<std::string>(&content)) return std::move(*text);
  return std::nullopt;
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

Descriptor unnamed_file(std::string_view content) {
  const std::unique_ptr<std::FILE, int (*)(std::FILE*)> file(std::tmpfile(), std::fclose);
  if (!file) return Descriptor();
  const bool is_whole = std::fwrite(content.data(), 1, content.size(), file.get()) == content.size();
  std::rewind(file.get());
  return is_whole ? Descriptor(::fcntl(::fileno(file.get()), F_DUPFD_CLOEXEC, 3)) : Descriptor();
}

}  // namespace porter::files
