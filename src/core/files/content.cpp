// Reading a file. See content.hpp.
#include "core/files/content.hpp"

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

}  // namespace porter::files
