// Findings as JSON, alike wherever they are shown to programs.
#pragma once

#include <nlohmann/json_fwd.hpp>
#include <vector>

#include "core/findings/finding.hpp"
#include "core/settings/read_settings.hpp"

namespace porter {

/// Its code, sentence and remedy, and all of it as text for people.
nlohmann::json json_of(const Finding& finding);
/// The same, with the file and the place in it if there is one.
nlohmann::json json_of(const SettingsProblem& problem);

nlohmann::json json_of(const std::vector<Finding>& findings);
nlohmann::json json_of(const std::vector<SettingsProblem>& problems);

}  // namespace porter
