// A whole file as a string.
#pragma once

#include <cstddef>
#include <optional>
#include <string>

#include "core/files/descriptor.hpp"

namespace porter::files {

/// What the file at `path` holds; nullopt if it cannot be read.
std::optional<std::string> content_of(const std::string& path);

/// What the open `file` holds; nullopt if it cannot be read, or is larger than `most` bytes.
std::optional<std::string> content_of(const Descriptor& file, std::size_t most);

}  // namespace porter::files
