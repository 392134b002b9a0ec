// A slip in the settings of a server that runs takes no site away. See keep_roots() in read_settings.hpp.
#include <unistd.h>

#include <algorithm>
#include <utility>

#include "core/settings/read_settings.hpp"

namespace porter {

void keep_roots(Settings& settings, std::vector<SettingsProblem>& standing, const Settings& before) {
  for (SettingsProblem& problem : standing) {
    if (problem.finding.code != Code::settings_folder_missing) continue;
    const std::string name(problem.finding.fact("site").value_or(""));
    const auto fresh =
        std::find_if(settings.sites.begin(), settings.sites.end(), [&](const Site& site) { return site.name == name; });
    const Site* const old = before.find_site(name);
    if (fresh == settings.sites.end() || old == nullptr || old->is_root_missing ||
        old->document_root == fresh->document_root || ::access(old->document_root.c_str(), R_OK | X_OK) != 0)
      continue;
    for (Fallback& fallback : fresh->fallbacks)
      if (fallback.root == fresh->document_root) fallback.root = old->document_root;
    fresh->missing_root = std::exchange(fresh->document_root, old->document_root);
    fresh->written_root = old->written_root;
    fresh->is_root_missing = false;
    problem.finding.code = Code::settings_root_kept;
    problem.finding.facts.emplace_back("root", fresh->document_root);
  }
}

}  // namespace porter
