// uporter.toml to Settings, every mistake with its place. The sample demo/uporter.toml tells what each key means.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/findings/finding.hpp"
#include "core/settings/settings.hpp"

namespace porter {

/// A mistake in the settings, and where it stands.
struct SettingsProblem {
  Finding finding;
  std::string file;        ///< As it was named to us.
  std::size_t line = 0;    ///< Counted from 1; 0: the file as a whole.
  std::size_t column = 0;  ///< In characters, counted from 1.
  std::string source;      ///< The line itself.
};

struct SettingsRead {
  Settings settings;  ///< Complete where there are no problems; else what could be made of it.
  std::vector<SettingsProblem> problems;
  /// What is wrong with one site and does not keep the others from being served: its document root is not there.
  std::vector<SettingsProblem> standing;
  std::optional<std::string> text;  ///< What was read; nullopt: there is no file, or it cannot be read.
};

/// Has each site of `settings` whose document root does not exist, as `standing` tells, keep the one that it has in
/// `before`, where that is still there; then that is what is told.
void keep_roots(Settings& settings, std::vector<SettingsProblem>& standing, const Settings& before);

/// Reads the text of the settings file `file`, an absolute path; relative paths in it start from its folder, and "~/"
/// from `home`.
SettingsRead read_settings(std::string_view text, const std::string& file, const std::string& home);

/// The same from disk. A file that does not exist means the settings of somebody who has none yet: one address, no
/// site.
SettingsRead load_settings(const std::string& file, const std::string& home);

/// The problem for people: place, sentence, the line with a caret below the place, and the remedy. Ends in a line feed.
std::string text_of(const SettingsProblem& problem);

/// Every key there is, as "table.key" with "NAME" for what people choose ("site.NAME.hosts"), in the order of the
/// sample.
std::vector<std::string> settings_keys();

/// The port that is used where settings say nothing.
inline constexpr std::uint16_t kUsualPort = 8080;

}  // namespace porter
