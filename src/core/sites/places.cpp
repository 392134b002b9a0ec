// See places.hpp.
#include "core/sites/places.hpp"

#include "core/files/paths.hpp"

namespace porter::sites {
namespace {

void add_place(std::vector<Place>& places, const Site& site, const std::string& root, const std::string& prefix,
               std::string_view path) {
  if (root.empty() || !files::lies_in(path, root)) return;
  const std::size_t begin = path == root ? path.size() : root == "/" ? 0 : root.size();
  std::string shown = prefix + std::string(path.substr(begin));
  if (shown.empty()) shown = "/";
  places.push_back({&site, root, prefix, std::move(shown)});
}

}  // namespace

std::vector<Place> places_of(const Settings& settings, std::string_view path) {
  std::vector<Place> places;
  for (const Site& site : settings.sites) {
    add_place(places, site, site.document_root, "", path);
    for (const Mount& mount : site.mounts) add_place(places, site, mount.target, mount.path, path);
  }
  return places;
}

}  // namespace porter::sites
