// site, mount and open: what is served, changed from the command line.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "client/instance_commands.hpp"

namespace porter::client {

struct SiteOptions {
  std::string name;
  std::string folder;
  std::vector<std::string> hosts;
  std::string root_of;                  ///< A host to answer to as well.
  std::string reach;                    ///< "network" or "this-computer"; empty: it stays as it is.
  int port = 0;                         ///< 0: the common addresses, or those that it has.
  std::optional<std::string> fallback;  ///< Empty: none.
};
int run_site_add(const std::string& settings, const SiteOptions& options);
/// What `options` do not name stays as it is.
int run_site_change(const std::string& settings, const SiteOptions& options);
int run_site_remove(const std::string& settings, const std::string& name);
int run_site_list(const std::string& settings);

struct MountOptions {
  std::string path;
  std::string folder;
  std::string site;             ///< Empty: the only one, or the one whose project has the folder.
  bool is_persistent = false;   ///< The target is a program that speaks FastCGI.
  bool replaces_pages = false;  ///< The path "/" may be that of a site that has pages.
};
/// True if the running server has a site of that name, or it is empty; else that is told.
bool knows_site(const machine::Instance& instance, const std::string& name);
int run_mount_add(const std::string& settings, const MountOptions& options);
/// The mounts of all sites.
int run_mount_list(const std::string& settings);
int run_mount_remove(const std::string& settings, const MountOptions& options);

}  // namespace porter::client
