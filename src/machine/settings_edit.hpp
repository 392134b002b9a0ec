// Changing the settings file on disk: the edit, the check of what comes out, and the writing in one step, so that the
// file is always either as it was or as it shall be.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "core/settings/edit.hpp"
#include "core/settings/read_settings.hpp"

namespace porter::machine {

struct SettingsEdited {
  std::vector<SettingsProblem> problems;  ///< None: the file has been written.
  std::string before;                     ///< What it held, to be put back if the settings cannot be applied.
  std::string after;                      ///< What it holds now.
  bool existed = false;                   ///< There was a file at all.
  Settings settings;                      ///< The same, read.
  std::vector<SettingsProblem> standing;  ///< What is wrong with them and keeps nobody from serving by them.
};

/// Edits `file`; it is made, with its folder, if it does not exist. Of several edits at once, by whichever process,
/// each starts from what the one before has made. May wait for some seconds for another one to finish.
SettingsEdited edit_settings(const std::string& file, const SettingsEdit& edit);

/// Writes `text` as the whole of `file`, if what it holds now has the version `version`; it is made if it does not
/// exist. Otherwise as edit_settings().
SettingsEdited write_settings(const std::string& file, const std::string& version, const std::string& text);

/// A short name for what a settings file holds; nullopt: there is no file.
std::string version_of(const std::optional<std::string>& text);

/// Puts back what was there before the edit, unless the file was changed again since.
void undo_edit(const std::string& file, const SettingsEdited& edited);

}  // namespace porter::machine
