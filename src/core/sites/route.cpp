// See route.hpp.
#include "core/sites/route.hpp"

#include <utility>

#include "core/sites/choose.hpp"
#include "core/sites/listing.hpp"

namespace porter::sites {
namespace {

/// True for a document root of which a listing would show nothing.
bool is_empty_root(const ResolveContext& in, const Site& site, const FolderFound& folder) {
  if (folder.path != site.document_root) return false;
  const auto rows = read_entries(in.settings, site, folder, 0);
  const auto* const none = std::get_if<std::vector<Row>>(&rows);
  return none != nullptr && none->empty();
}

}  // namespace

Route route_within(const ResolveContext& in, const Site& site, const Asked& asked) {
  Resolution found = resolve(in, site, asked);
  Route route{&site, {}, std::move(found.outcome), std::move(found.trail), found.has_more_names};
  const auto* const folder = std::get_if<FolderFound>(&route.outcome);
  if (folder == nullptr || !is_empty_root(in, site, *folder)) return route;
  // In place of the step that its entries are listed.
  if (!route.trail.empty()) route.trail.pop_back();
  route.trail.push_back("The document root is empty, so a start page tells how to go on.");
  route.outcome = StartPage{folder->path};
  return route;
}

Route route(const ResolveContext& in, const Arrival& arrival, const Asked& asked) {
  if (arrival.known != nullptr) return route_within(in, *arrival.known, asked);
  auto chosen = choose_site(in.settings, arrival.listener, arrival.host);
  if (auto* const finding = std::get_if<Finding>(&chosen)) return {nullptr, {}, std::move(*finding), {}, false};
  auto& choice = std::get<Chosen>(chosen);
  if (choice.site == nullptr) return {nullptr, std::move(choice.reason), StartPage{}, {}, false};
  Route route = route_within(in, *choice.site, asked);
  route.choice = std::move(choice.reason);
  return route;
}

}  // namespace porter::sites
