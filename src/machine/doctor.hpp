// Checking the whole installation: settings, state, addresses, document roots, scripts, interpreters.
#pragma once

#include <string>
#include <vector>

#include "core/settings/read_settings.hpp"
#include "machine/explain.hpp"
#include "machine/instance.hpp"

namespace porter::machine {

/// One thing that was looked at. Without findings it is fine.
struct Check {
  std::string what;   ///< "The address localhost:8080".
  std::string state;  ///< What was seen, as a few words: "free", "4 entries".
  std::vector<SettingsProblem> findings;
};

/// Looks at everything that a server for the instance, by the settings that were read, needs. Changes nothing.
std::vector<Check> examine(const Instance& instance, SettingsRead read, const std::string& search_path,
                           const Standing& standing);

}  // namespace porter::machine
