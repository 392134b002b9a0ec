// The page that explains why a request did not get what it asked for.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "core/findings/finding.hpp"
#include "core/script/error_place.hpp"

namespace porter::server::pages {

/// What a script wrote before it failed.
struct Written {
  std::vector<std::string> errors;  ///< The last lines of its error stream.
  std::string page;                 ///< What it had printed of its page, without the head.
};

/// What there is to tell. The references must last as long as it does.
struct Problem {
  const Finding& finding;
  std::string asked;                      ///< "GET /timetable"; empty if it could not be read.
  const std::vector<std::string>& trail;  ///< How it came to this.
  Written written;
  std::vector<script::SourceLine> source;  ///< The lines around the place that the finding names.
  std::string note{};                      ///< What else is to be known of the site; empty: nothing.
  std::string console_url;                 ///< Where the console shows the exchange; empty: nowhere.
};

std::string problem_html(const Problem& problem);
std::string problem_text(const Problem& problem);

/// For clients elsewhere: the status and a number under which the log has the rest; no path and no text of a script.
std::string reserved_html(int status, std::string_view number);
std::string reserved_text(int status, std::string_view number);

}  // namespace porter::server::pages
