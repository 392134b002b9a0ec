// Where scripts are run and never shown: below a folder that is a script folder by any of its names.
//
// A folder may have several: the one in the URL, the one that the settings write, the one that a link gives it, and its
// own on disk. By whichever of them its scripts would be run, they are shown by none.
#pragma once

#include <string>
#include <string_view>

#include "core/files/beneath.hpp"
#include "core/settings/settings.hpp"

namespace porter::sites {

/// True if a part of `path` is the name of a script folder of `site`.
bool names_script_folder(const Site& site, std::string_view path);

/// True if `site` runs what lies in `folder`, a real path: by its own parts, or by what the settings call the document
/// root or the mount that it lies in.
bool runs_below(const Site& site, std::string_view folder);

/// True if `site` mounts the one file at `real`, a real path.
bool is_mounted_file(const Site& site, std::string_view real);

/// True if a link that is called as a script folder leads to the folder `relative` below `root`, or to one on the way
/// to it, and stands in one of those folders itself.
bool is_linked_as_script_folder(const Site& site, const files::Folder& root, std::string_view relative);

/// True if a script folder right below `root` leads to `folder`, a real path in the folder `linked`, or to one on the
/// way.
bool is_linked_from_script_folder(const Site& site, const files::Folder& root, std::string_view linked,
                                  std::string_view folder);

}  // namespace porter::sites
