// route(): the single place that decides what a request leads to, from the address that it came to to the outcome.
//
// The site comes first (core/sites/choose.hpp), then what its path means there (core/sites/resolve.hpp), then what is
// shown in place of nothing. The server, explanations and rehearsals all call it, so that what is explained is what
// happens. It changes nothing, runs nothing, and may be called from any thread.
#pragma once

#include <string>
#include <vector>

#include "core/http/host.hpp"
#include "core/settings/settings.hpp"
#include "core/sites/resolve.hpp"

namespace porter::sites {

/// Where a request came to, and whom it asks for.
struct Arrival {
  const Listener& listener;
  const http::Host& host;
  const Site* known = nullptr;  ///< The site that this host is known to lead to here; null: it is to be chosen.
};

struct Route {
  const Site* site = nullptr;  ///< Null: the address has no site, or none for this host.
  std::string choice;          ///< Why it is that site, as a sentence; empty if it was known.
  Outcome outcome;
  std::vector<std::string> trail;  ///< The steps at the site.
  bool has_more_names = false;     ///< As in Resolution.
};

/// What a request for `asked` that came by `arrival` leads to.
Route route(const ResolveContext& in, const Arrival& arrival, const Asked& asked);
/// The same for a path of a site that is already known: of a local redirect, a problem page, a file's URL.
Route route_within(const ResolveContext& in, const Site& site, const Asked& asked);

}  // namespace porter::sites
