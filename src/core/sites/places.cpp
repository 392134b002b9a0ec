// See places.hpp.
#include "core/sites/places.hpp"

namespace porter::sites {
namespace {

void add_place(std::vector<Place>& places, const Site& site, const std::string& root, const std::string& prefix,
               std::string_view path) {
  const std::string_view below = root == "/" ? std::string_view() : std::string_view(root);
  const bool lies_in = path == root || (path.starts_with(below) && path.substr(below.size()).starts_with('/'));
  if (!lies_in || root.empty()) return;
  std::string shown = prefix + std::string(path.substr(path == root ? path.size() : below.size()));
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
