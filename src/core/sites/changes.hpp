// What it means for what is served that other settings take the place of some, in sentences for people.
#pragma once

#include <string>
#include <vector>

#include "core/settings/settings.hpp"

namespace porter {

/// A sentence for each thing that will be different: addresses first, then sites, then the rest. Empty: nothing will.
std::vector<std::string> changes_between(const Settings& before, const Settings& after);

}  // namespace porter
