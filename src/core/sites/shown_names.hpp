// Which names a site shows: not those that begin with a dot, and not the copies that editors leave of what would be run
// or is hidden.
#pragma once

#include <optional>
#include <string_view>

#include "core/settings/settings.hpp"

namespace porter::sites {

/// True for names that `site` does not show: a leading dot, unless its settings except them.
bool is_hidden(const Site& site, std::string_view name);

/// The pattern of `site` that forbids `path`, relative to what is shown, or a folder on the way there; null: none does.
/// One that ends with a slash is for folders, one with another slash begins at the root, and any other is for names
/// wherever they are. `*` stands for any part of a name.
const std::string* forbidding(const Site& site, std::string_view path, bool is_folder);

/// What an editor or a tool that keeps copies made the file `name` from: "page.php" for "page.php~", "#page.php#",
/// ".page.php.swp", "page.php.bak", "page.php.ORIG", "page.php.save.1" and so on; nullopt if it is no such copy.
std::optional<std::string_view> copied_from(std::string_view name);

/// True for copies that `site` does not show: those that are never meant to be seen ("x~", "x.bak", "x.swp", whatever
/// they hold), and every other one of a file that would be run or is hidden.
bool is_withheld_copy(const Settings& settings, const Site& site, std::string_view name);

}  // namespace porter::sites
