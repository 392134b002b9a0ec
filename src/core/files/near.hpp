// What was meant by the name of a folder that does not exist.
#pragma once

#include <optional>
#include <string>

namespace porter::files {

/// The folder that exists and whose path differs from `missing` in one misspelt name; nullopt: there is none.
std::optional<std::string> nearest_folder(const std::string& missing);

}  // namespace porter::files
