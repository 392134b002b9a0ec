// Opening the browser at what a server shows, or is to show.
#pragma once

#include <string>

namespace porter::client {

/// Opens the browser at a site, at the console, or at a file or folder; prints the URL. A file or folder that no server
/// shows is shown by one that runs, or is started, until that stops.
int run_open(const std::string& settings, const std::string& what);

}  // namespace porter::client
