// The page that is shown where no page of a site is there yet.
#pragma once

#include <string>
#include <utility>
#include <vector>

namespace porter::server::pages {

struct StartPage {
  std::string empty_root;  ///< The document root without any file; empty: the address has no site.
  std::vector<std::pair<std::string, std::string>> sites;         ///< Name and URL.
  std::vector<std::pair<std::string, std::string>> interpreters;  ///< Language and path; an empty path: not installed.
  std::string next_step;                                          ///< A command.
  std::string console_url;  ///< Where the console shows the exchange; empty: nowhere.
};

std::string start_page(const StartPage& page);

}  // namespace porter::server::pages
