// A site as JSON, alike wherever it is shown to programs: by a running server, and by the client without one.
#pragma once

#include <nlohmann/json_fwd.hpp>

#include "core/settings/settings.hpp"

namespace porter::sites {

/// Its name, URL, folder, hosts, addresses and mounts.
nlohmann::json json_of(const Settings& settings, const Site& site);
/// An array of all sites, in their order.
nlohmann::json json_of_sites(const Settings& settings);

}  // namespace porter::sites
