// A whole file as a string.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <string_view>

#include "core/files/descriptor.hpp"

namespace porter::files {

/// What the file at `path` holds; nullopt if it cannot be read.
std::optional<std::string> content_of(const std::string& path);

/// What the open `file` holds; nullopt if it cannot be read, or is larger than `most` bytes.
std::optional<std::string> content_of(const Descriptor& file, std::size_t most);

/// An open file without a name that holds `content`, to be read from its start; not open if it cannot be made (errno).
Descriptor unnamed_file(std::string_view content);

}  // namespace porter::files
