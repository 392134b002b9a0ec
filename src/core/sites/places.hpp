// Places: where on the sites a file of this machine shows up. From a file to its paths, as route() goes from a path to
// its file.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "core/settings/settings.hpp"

namespace porter::sites {

/// A path of a site that stands for a file or folder.
struct Place {
  const Site* site = nullptr;
  std::string root;    ///< The document root or mount that it lies in.
  std::string prefix;  ///< The path at which the site shows that; empty for the document root.
  std::string path;    ///< The decoded path; without a final slash, also of a folder. At least "/".
};

/// The places of the file or folder at `path`, an absolute path without links; in the order of the sites, and for each
/// its document root before its mounts. Whether anything is served there is for route() to say: a mount may hide it.
std::vector<Place> places_of(const Settings& settings, std::string_view path);

}  // namespace porter::sites
