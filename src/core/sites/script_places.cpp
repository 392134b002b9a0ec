// The names of a script folder. See script_places.hpp.
#include "core/sites/script_places.hpp"

#include <fcntl.h>
#include <sys/stat.h>

#include <algorithm>
#include <utility>
#include <vector>

#include "core/files/paths.hpp"

namespace porter::sites {
namespace {

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
  if (files::lies_in(folder, site.document_root) && names_script_folder(site, site.written_root)) return true;
  return std::any_of(site.mounts.begin(), site.mounts.end(), [&](const Mount& mount) {
    return files::lies_in(folder, mount.target) &&
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

bool is_linked_from_script_folder(const Site& site, const files::Folder& root, std::string_view linked,
                                  std::string_view folder) {
  for (const std::string& name : site.script_folders) {
    struct stat script_folder {};
    if (::fstatat(root.handle().get(), name.c_str(), &script_folder, 0) != 0) continue;
    for (std::string_view place = folder; files::lies_in(place, linked) && !place.empty();
         place = files::folder_of(place)) {
      struct stat info {};
      if (::stat(std::string(place).c_str(), &info) != 0) continue;
      if (Identity(info.st_dev, info.st_ino) == Identity(script_folder.st_dev, script_folder.st_ino)) return true;
    }
  }
  return false;
}

}  // namespace porter::sites
