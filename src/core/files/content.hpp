// A whole file as a string.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <string_view>
#include <variant>

#include "core/files/beneath.hpp"
#include "core/files/descriptor.hpp"

namespace porter::files {

/// Nothing larger is read as a whole.
inline constexpr std::size_t kMostContent = std::size_t{1} << 30;

/// What the file at `path` holds, which may be a pipe; else why it cannot be read (EISDIR: it is a folder, EFBIG: it
/// is larger than kMostContent).
std::variant<std::string, SystemError> read_whole(const std::string& path);
/// The same for what is left to be read of `file`.
std::variant<std::string, SystemError> read_rest(const Descriptor& file);
/// What the file at `path` holds; nullopt if it cannot be read.
std::optional<std::string> content_of(const std::string& path);

/// What the open `file` holds; nullopt if it cannot be read, or is larger than `most` bytes.
std::optional<std::string> content_of(const Descriptor& file, std::size_t most);

/// An open file without a name that holds `content`, to be read from its start; not open if it cannot be made (errno).
Descriptor unnamed_file(std::string_view content);

}  // namespace porter::files
