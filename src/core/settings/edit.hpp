// Editing the text of settings in place: only the lines of what is added or removed change, and all others, with their
// comments and their layout, stay byte for byte.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "core/findings/finding.hpp"

namespace porter {

/// What to change.
struct SettingsEdit {
  enum class Kind { add_site, change_site, remove_site, add_mount, remove_mount } kind = Kind::add_site;
  std::string site;    ///< Its name.
  std::string folder;  ///< The document root, or what is mounted: an absolute path. Empty: it stays.
  std::string path;    ///< Of a mount.
  // Of a site. None: those of a new one are the usual ones, and those of another stay.
  std::vector<std::string> hosts{};  ///< In place of those that it has.
  std::optional<std::uint16_t> port{};
  std::string reach{};                    ///< "network": other devices reach it too; "this-computer"; empty: it stays.
  std::string root_of{};                  ///< A host that it answers to as well, "localhost" say.
  std::string option{};                   ///< As in Settings, for what is advised to be typed.
  std::optional<std::string> fallback{};  ///< As in the settings; empty: it is to have none.
  bool is_persistent = false;             ///< Of a mount: a program that speaks FastCGI.
};

/// The text of the settings after the edit; a finding if it makes no sense for this text, which must be valid settings.
std::variant<std::string, Finding> edit_text(std::string_view text, const SettingsEdit& edit);

}  // namespace porter
