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

/// True for a finding that tells of something by the way: nothing needs to be done.
inline bool is_note(const Finding& finding) {
  return finding.code == Code::stale_state || finding.code == Code::rules_not_read ||
         finding.code == Code::body_limits_differ || finding.code == Code::localhost_unknown;
}

/// Has each script of the sites checked by its interpreter, without running it: its syntax, and modules that are
/// missing as far as that shows.
std::vector<Check> examine_deeply(const Settings& settings, const std::string& search_path);

/// Looks at everything that a server for the instance, by the settings that were read, needs. Changes nothing.
std::vector<Check> examine(const Instance& instance, SettingsRead read, const std::string& search_path,
                           const Standing& standing);

}  // namespace porter::machine
