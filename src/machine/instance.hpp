// Instances: the servers of this user. Where each has its settings or its folder, where it keeps its state, and which
// process it is. There is one for each settings file, and one for each folder that is served without settings.
//
// The client and the server both go by this, so they meet at the same control socket. The lock file is held locked by
// the running server; a lock that nobody holds was left by one that was killed.
//
// A settings file may be reached by several paths, when it or a folder on the way is a link, or becomes one. A server
// is known by where its settings really lie and by what they are called, so it is found by either.
#pragma once

#include <sys/types.h>

#include <optional>
#include <string>
#include <vector>

#include "core/files/descriptor.hpp"
#include "core/settings/read_settings.hpp"

namespace porter::machine {

struct Instance {
  std::string named;     ///< The settings file as an absolute path, with the links in it.
  std::string settings;  ///< The same without links, as far as it exists; it need not exist. Empty for a folder.
  std::string root;      ///< The document root of a server without settings; empty for one with settings.
  std::string known_by;  ///< The path by which its places are found: mostly that without links.
  std::string folder;    ///< Of the control socket and the lock; mode 0700.
  std::string socket;
  std::string lock;
  std::string console_key;  ///< Where the console's key is kept, mode 0600, from one start to the next.
  std::string log;          ///< What a server in the background says; empty for a folder.

  /// " --settings FILE" for commands that are shown; empty if FILE is what is found without it, or if there is none.
  std::string option() const;
  /// What it serves, for a person: the settings file or the folder.
  const std::string& subject() const { return settings.empty() ? root : settings; }
};

/// The settings file that is meant: `named` if it is not empty, else ./uporter.toml if there is one, else that of the
/// user (XDG_CONFIG_HOME/upright-porter/uporter.toml). An absolute path, with the links in it.
std::string find_settings_file(const std::string& named);

/// `path`, an absolute one, without links and dots as far as it exists.
std::string without_links(const std::string& path);

/// The user's home folder.
std::string home_folder();

/// Where servers of this user keep what outlives them.
std::string state_folder();
/// Makes `folder` if it is not there, for this user alone. False: errno tells why not.
bool make_private(const std::string& folder);

/// The folder of the user's settings, for any program (XDG_CONFIG_HOME).
std::string config_folder();

/// The places of a server for the settings that are called `named`, an absolute path. Nothing is made yet.
Instance instance_for(const std::string& named);
/// Those of the server that runs for the settings that find_settings_file() finds, whichever of their paths it is known
/// by; those of a new one if none does.
Instance find_instance(const std::string& named);

/// The places of a server that this process is to be for the folder `root` alone.
Instance instance_for_folder(const std::string& root);
/// The servers of this user that run now.
std::vector<Instance> running_instances();
/// Takes away the places of this server for a folder, which nobody can use again, and those that such servers have left
/// behind that were killed.
void remove_folder_instances(const Instance& own);

/// Reads the settings `file`, in which paths may begin with this user's home folder.
SettingsRead read_settings_file(const std::string& file);

/// Makes the folders of the instance; a finding if that fails.
std::optional<Finding> make_folders(const Instance& instance);

/// Takes the lock and writes into it this process and what it serves. Not open: another process has it.
files::Descriptor take_lock(const Instance& instance);

/// A further path by which a server is known. As long as it is held, clients that come by it meet the same server.
class OtherName {
 public:
  /// Takes the places of `path` for the server of `instance`, whose lock is held. nullopt: another server has them, or
  /// they cannot be made.
  static std::optional<OtherName> take(const Instance& instance, const std::string& path);
  OtherName(OtherName&&) = default;
  OtherName& operator=(OtherName&&) = default;
  /// Gives the places back.
  ~OtherName();

  const std::string& path() const { return path_; }

 private:
  OtherName(std::string path, std::string socket, files::Descriptor lock)
      : path_(std::move(path)), socket_(std::move(socket)), lock_(std::move(lock)) {}

  std::string path_;
  std::string socket_;  ///< A link to the server's own.
  files::Descriptor lock_;
};

/// The process that holds the lock; 0 if it is held and the holder cannot be told for certain (one that is just
/// starting); nullopt: nobody does.
std::optional<pid_t> lock_holder(const Instance& instance);
/// The process that held the lock last, if it was killed and nobody holds it now.
std::optional<pid_t> killed_holder(const Instance& instance);

/// " --settings FILE" for commands that are shown, or empty if FILE is what is found without it.
std::string settings_option(const std::string& settings);

}  // namespace porter::machine
