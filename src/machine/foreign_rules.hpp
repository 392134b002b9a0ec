// Rules in a document root that were written for another server, and what does the same here.
#pragma once

#include <optional>

#include "core/findings/finding.hpp"
#include "core/settings/settings.hpp"

namespace porter::machine {

/// The finding about a .htaccess file in the document root of `site` that says something that matters; nullopt: there
/// is none. It is not read when requests are answered.
std::optional<Finding> find_foreign_rules(const Site& site);

/// What such files of the site forbid, also in its folders, and the settings do not; nullopt: nothing.
std::optional<Finding> find_forbidding_rules(const Site& site);

}  // namespace porter::machine
