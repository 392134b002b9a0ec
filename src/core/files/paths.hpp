// Paths as texts: their two parts, and whether one lies in another.
#pragma once

#include <string_view>

namespace porter::files {

/// What follows the last slash; the whole of a path without one.
constexpr std::string_view base_name(std::string_view path) { return path.substr(path.rfind('/') + 1); }

/// What comes before the last slash; the whole of a path without one.
constexpr std::string_view folder_of(std::string_view path) { return path.substr(0, path.rfind('/')); }

/// True if `path` is `folder`, or lies below it. Both without dots and doubled slashes, `folder` without a final slash
/// unless it is the root.
constexpr bool lies_in(std::string_view path, std::string_view folder) {
  if (folder == "/") return path.starts_with('/');
  return path.starts_with(folder) && (path.size() == folder.size() || path[folder.size()] == '/');
}

}  // namespace porter::files
