// The two parts of a path, as views into it.
#pragma once

#include <string_view>

namespace porter::files {

/// What follows the last slash; the whole of a path without one.
constexpr std::string_view base_name(std::string_view path) { return path.substr(path.rfind('/') + 1); }

/// What comes before the last slash; the whole of a path without one.
constexpr std::string_view folder_of(std::string_view path) { return path.substr(0, path.rfind('/')); }

}  // namespace porter::files
