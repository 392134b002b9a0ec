// The names of a script folder. See script_places.hpp.
#include "core/sites/script_places.hpp"

#include <fcntl.h>
#include <sys/stat.h>

#include <algorithm>
#include <utility>
#include <vector>

namespace porter::sites {
namespace {

/// True if `path` is `folder` or lies below it.
bool lies_in(std::string_view path, std::string_view folder) {
  if (folder == "/") return true;
  return path.starts_with(folder) && (path.size() == folder.size() || path[folder.size()] == '/');
}

/// What tells one folder from all others.
using Identity = std::pair<dev_t, ino_t>;

}  // namespace

bool names_script_folder(const Site& site, std::string_view path) {
  while (!path.empty()) {
    const std::size_t slash = std::min(path.find('/'), path.size());
    const std::string_view part = path.substr(0, slash);
    if (std::find(site.script_folders.begin(), site.script_folders.end(), part) != site.script_folders.end())
      return true;
    path.remove_prefix(std::min(slash + 1, path.size()));
  }
  return false;
}

bool runs_below(const Site& site, std::string_view folder) {
  if (names_script_folder(site, folder)) return true;
  if (lies_in(folder, site.document_root) && names_script_folder(site, site.written_root)) return true;
  return std::any_of(site.mounts.begin(), site.mounts.end(), [&](const Mount& mount) {
    return lies_in(folder, mount.target) &&
           (names_script_folder(site, mount.path) || names_script_folder(site, mount.written));
  });
}

bool is_mounted_file(const Site& site, std::string_view real) {
  return std::any_of(site.mounts.begin(), site.mounts.end(), [&](const Mount& mount) { return mount.target == real; });
}

bool is_linked_as_script_folder(const Site& site, const files::Folder& root, std::string_view relative) {
  std::vector<std::string> folders = {"."};
  for (std::size_t end = 0; end < relative.size();) {
    end = std::min(relative.find('/', end + 1), relative.size());
    folders.emplace_back(relative.substr(0, end));
  }
  std::vector<Identity> linked;
  for (const std::string& folder : folders) {
    for (const std::string& name : site.script_folders) {
      const std::string path = folder + "/" + name;
      struct stat info {};
      if (::fstatat(root.handle().get(), path.c_str(), &info, AT_SYMLINK_NOFOLLOW) != 0 || !S_ISLNK(info.st_mode))
        continue;
      if (::fstatat(root.handle().get(), path.c_str(), &info, 0) == 0) linked.emplace_back(info.st_dev, info.st_ino);
    }
  }
  if (linked.empty()) return false;
  return std::any_of(folders.begin(), folders.end(), [&](const std::string& folder) {
    struct stat info {};
    return ::fstatat(root.handle().get(), folder.c_str(), &info, 0) == 0 &&
           std::find(linked.begin(), linked.end(), Identity(info.st_dev, info.st_ino)) != linked.end();
  });
}

}  // namespace porter::sites
