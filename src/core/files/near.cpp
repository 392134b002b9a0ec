// Looking where the path stops leading anywhere. See near.hpp.
#include "core/files/near.hpp"

#include <filesystem>

#include "core/files/paths.hpp"
#include "core/text/text.hpp"

namespace porter::files {

std::optional<std::string> nearest_folder(const std::string& missing) {
  namespace fs = std::filesystem;
  constexpr std::size_t kMostNames = 4096;
  std::error_code error;
  // The first name on the way that is not there.
  std::string above = missing;
  std::string name;
  std::string behind;
  do {
    if (!name.empty()) behind.insert(0, "/" + name);
    name = base_name(above);
    above = folder_of(above);
    if (above.empty()) above = "/";
    if (name.empty()) return std::nullopt;
  } while (!fs::is_directory(above, error));
  std::vector<std::string> names;
  for (fs::directory_iterator entry(above, error), end; !error && entry != end && names.size() < kMostNames;
       entry.increment(error))
    names.push_back(entry->path().filename().string());
  const auto near = text::nearest(name, names);
  if (!near) return std::nullopt;
  std::string found = above + (above.ends_with('/') ? "" : "/") + *near + behind;
  return fs::is_directory(found, error) ? std::optional(std::move(found)) : std::nullopt;
}

}  // namespace porter::files
