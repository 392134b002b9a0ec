// Explaining what a URL leads to, or under which URLs a file is served, without making a request: the same route() as
// serving, with what of the machine decides whether a browser comes here at all.
#pragma once

#include <sys/types.h>

#include <string>
#include <vector>

#include "core/findings/finding.hpp"
#include "core/settings/settings.hpp"
#include "core/sites/resolve.hpp"

namespace porter::machine {

/// Whether a server runs for the settings.
struct Standing {
  bool is_running = false;
  pid_t process = 0;   ///< Of the running server.
  std::string option;  ///< " --settings FILE" for commands that are shown; may be empty.
};

struct Explanation {
  std::string what;
  bool is_served = false;
  std::string outcome;             ///< A sentence; empty if nothing comes of it.
  std::vector<std::string> urls;   ///< Under which it is served, the best first.
  std::vector<std::string> trail;  ///< The steps, each with its reason.
  std::vector<Finding> findings;
};

/// Explains `what`: a URL, a file:// URL, or the path of a file or folder, relative to `folder`.
Explanation explain(const sites::ResolveContext& in, const Standing& standing, const std::string& what,
                    const std::string& folder);

/// As JSON: what, served, outcome, urls, trail, findings (code, sentence, remedy).
std::string json_of(const Explanation& explanation);

}  // namespace porter::machine
