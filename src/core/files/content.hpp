// A whole file as a string.
#pragma once

#include <optional>
#include <string>

namespace porter::files {

/// What the file at `path` holds; nullopt if it cannot be read.
std::optional<std::string> content_of(const std::string& path);

}  // namespace porter::files
