// One server for each settings file: where its settings are, where it keeps its state, and who runs it.
//
// The client and the server both go by this, so they meet at the same control socket. The lock file is held locked by
// the running server; a lock that nobody holds was left by one that was killed.
#pragma once

#include <sys/types.h>

#include <optional>
#include <string>

#include "core/files/descriptor.hpp"
#include "core/settings/read_settings.hpp"

namespace porter::run {

struct Instance {
  std::string settings;  ///< The settings file as an absolute path; it need not exist.
  std::string folder;    ///< Of the control socket and the lock; mode 0700.
  std::string socket;
  std::string lock;
  std::string log;  ///< What a server in the background says.
};

/// The settings file that is meant: `named` if it is not empty, else ./porter.toml if there is one, else that of the
/// user (XDG_CONFIG_HOME/upright-porter/porter.toml).
std::string find_settings_file(const std::string& named);

/// The user's home folder.
std::string home_folder();

/// The folder of the user's settings, for any program (XDG_CONFIG_HOME).
std::string config_folder();

/// The places of the server for `settings`, an absolute path. Nothing is made yet.
Instance instance_for(const std::string& settings);
/// Those of the server for the settings that find_settings_file() finds.
Instance find_instance(const std::string& named);

/// Reads the settings `file` with what this user adds to them: the home folder that paths may begin with, and the
/// folders in which interpreters are looked for.
SettingsRead read_settings_file(const std::string& file);

/// Makes the folders of the instance; a sentence if that fails.
std::optional<std::string> make_folders(const Instance& instance);

/// Takes the lock and writes this process into it. Not open: another process has it.
files::Descriptor take_lock(const Instance& instance);

/// The process that holds the lock; nullopt: nobody does.
std::optional<pid_t> lock_holder(const Instance& instance);
/// The process that held the lock last, if it was killed and nobody holds it now.
std::optional<pid_t> killed_holder(const Instance& instance);

/// " --settings FILE" for commands that are shown, or empty if FILE is what is found without it.
std::string settings_option(const std::string& settings);

}  // namespace porter::run
