// Changing and showing the sites: through the running server, or in the settings alone if there is none.
#include "client/site_commands.hpp"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <climits>
#include <cstdlib>
#include <filesystem>

#include "client/control_client.hpp"
#include "client/output.hpp"
#include "client/serve.hpp"
#include "client/servers.hpp"
#include "core/http/target.hpp"
#include "core/sites/choose.hpp"
#include "core/sites/site_json.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/network_urls.hpp"
#include "machine/settings_edit.hpp"

namespace porter::client {
namespace {

using Json = nlohmann::json;

/// The settings of an instance without its server; problems are printed, and then there are none.
std::optional<Settings> read_alone(const machine::Instance& instance) {
  SettingsRead read = machine::read_settings_file(instance.settings);
  if (!read.problems.empty()) {
    fail(read.problems);
    return std::nullopt;
  }
  return std::move(read.settings);
}

/// Tries the edit through the server, or on the file alone; prints problems. The settings afterwards, or nullopt.
std::optional<Settings> change(const machine::Instance& instance, const SettingsEdit& edit, const std::string& method,
                               const std::string& target, const Json& body) {
  if (machine::lock_holder(instance)) {
    const Reply reply = ask(instance, method, target, body);
    if (reply.status == 0) {
      fail(reply.body.get<std::string>());
      return std::nullopt;
    }
    if (reply.status >= 400) {
      fail_with(reply.body);
      return std::nullopt;
    }
    return read_alone(instance);
  }
  machine::SettingsEdited edited = machine::edit_settings(instance.settings, edit);
  if (edited.problems.empty()) return std::move(edited.settings);
  fail(edited.problems);
  return std::nullopt;
}

std::string url_of_site(const Settings& settings, const Site& site) {
  return sites::url_of(settings, site, sites::main_address(settings, site)) + "/";
}

/// The absolute path of what is named on the command line, links in it as they are, so that what they lead to may
/// change; empty, with a sentence printed, if it does not exist.
std::string path_of(const std::string& named) {
  std::array<char, PATH_MAX> real{};
  if (::realpath(named.c_str(), real.data()) != nullptr) {
    // What lies above a link is another folder than it looks like.
    if (("/" + named + "/").find("/../") != std::string::npos) return real.data();
    std::string path = std::filesystem::absolute(named).lexically_normal().string();
    if (path.size() > 1 && path.ends_with('/')) path.pop_back();
    return path;
  }
  fail(fmt::format("There is no {}. Make it first: mkdir -p {}", text::escape_line(named), text::shell_word(named)));
  return {};
}

void tell_server(const machine::Instance& instance) {
  if (!machine::lock_holder(instance))
    fmt::print("The server is not running. Start it: uporter start{}\n", instance.option());
}

/// The folder of the project whose pages the site shows: that above a folder whose name says that it is shown.
std::string project_of(const Site& site) {
  const std::string_view name = files::base_name(site.document_root);
  for (const std::string_view shown : {"public", "web", "html", "htdocs", "www", "public_html"})
    if (name == shown) return std::string(files::folder_of(site.document_root));
  return site.document_root;
}

/// The site that is meant where none is named, for a mount of `mounted`; empty, with a sentence printed, if that cannot
/// be told.
std::string meant_site(const machine::Instance& instance, const std::string& named, const std::string& mounted) {
  if (!named.empty()) return named;
  const auto settings = read_alone(instance);
  if (!settings) return {};
  if (settings->sites.size() == 1) return settings->sites.front().name;
  // Of several the one whose project has what is mounted.
  std::string names;
  for (const Site& site : settings->sites) {
    if (!mounted.empty() && files::lies_in(mounted, project_of(site))) return site.name;
    names += (names.empty() ? "" : ", ") + text::escape_line(site.name);
  }
  if (!names.empty()) {
    fail("Say which site is meant, by --site NAME; there are " + names + ".");
    return {};
  }
  fail("There is no site yet. Add one: uporter site add NAME FOLDER" + instance.option());
  return {};
}

/// True if something lies in the document root of the site.
bool has_pages(const machine::Instance& instance, const std::string& name) {
  const SettingsRead read = machine::read_settings_file(instance.settings);
  const Site* const site = read.settings.find_site(name);
  std::error_code ignored;
  return site != nullptr &&
         std::filesystem::directory_iterator(site->document_root, ignored) != std::filesystem::directory_iterator();
}

}  // namespace

bool knows_site(const machine::Instance& instance, const std::string& name) {
  if (name.empty()) return true;
  const Reply reply = ask(instance, "GET", "/v1/sites");
  if (reply.status != 200) return true;  // Whoever asks next is told why.
  std::vector<std::string> names;
  for (const Json& site : reply.body["sites"]) names.push_back(site["name"].get<std::string>());
  if (text::contains(names, name)) return true;
  const auto near = text::nearest(name, names);
  fail("There is no site \"" + text::escape_line(name) + "\"." + (near ? " Did you mean " + *near + "?" : "") +
       " See them all: uporter site list" + instance.option());
  return false;
}

namespace {

/// What `options` say, for the settings and for the server; empty, with a sentence printed, if a folder is not there.
std::optional<std::pair<SettingsEdit, Json>> edit_of(const SiteOptions& options, const std::string& old_root) {
  SettingsEdit edit;
  Json body = Json::object();
  edit.site = options.name;
  if (!options.folder.empty()) {
    edit.folder = path_of(options.folder);
    if (edit.folder.empty()) return std::nullopt;
    body["folder"] = edit.folder;
  }
  edit.hosts = options.hosts;
  if (!options.hosts.empty()) body["hosts"] = options.hosts;
  edit.root_of = options.root_of;
  if (!options.root_of.empty()) body["root_of"] = options.root_of;
  edit.reach = options.reach;
  if (!options.reach.empty()) body["reach"] = options.reach;
  if (options.port > 0) {
    edit.port = static_cast<std::uint16_t>(options.port);
    body["port"] = options.port;
  }
  if (options.fallback) {
    edit.fallback = fallback_below(edit.folder.empty() ? old_root : edit.folder, *options.fallback);
    body["fallback"] = *edit.fallback;
  }
  return std::pair(std::move(edit), std::move(body));
}

/// Tells programs that an edit is done, and of the site that it was about, where it is still there.
int print_changed(const Json& site = nullptr) {
  Json out = {{"findings", Json::array()}};
  if (!site.is_null()) out["site"] = site;
  print_json(out);
  return kFine;
}

/// Carries it out, and tells where the site is now.
int change_and_tell(const machine::Instance& instance, const SettingsEdit& edit, const std::string& method,
                    const std::string& target, const Json& body) {
  const auto after = change(instance, edit, method, target, body);
  const Site* const site = after ? after->find_site(edit.site) : nullptr;
  if (site == nullptr) return kBadUse;
  if (is_json_wanted()) return print_changed(sites::json_of(*after, *site));
  fmt::print("{}{}{}  {}\n", paint().bold, url_of_site(*after, *site), paint().plain,
             text::escape_line(site->document_root));
  for (const Fallback& fallback : site->fallbacks)
    fmt::print("  {} answers for paths below {} that lead to no file.\n",
               text::escape_line(fallback.root + "/" + fallback.script), text::escape_line(fallback.path));
  for (const std::string& url : machine::network_urls(*after, *site)) fmt::print("  Other devices  {}\n", url);
  fmt::print("  Written to {}\n", text::escape_line(instance.settings));
  tell_server(instance);
  return kFine;
}

}  // namespace

int run_site_add(const std::string& settings, const SiteOptions& options) {
  auto wanted = edit_of(options, {});
  if (!wanted) return kBadUse;
  auto& [edit, body] = *wanted;
  edit.kind = SettingsEdit::Kind::add_site;
  body["name"] = options.name;
  return change_and_tell(machine::find_instance(settings), edit, "POST", "/v1/sites", body);
}

int run_site_change(const std::string& settings, const SiteOptions& options) {
  const machine::Instance instance = machine::find_instance(settings);
  const auto now = read_alone(instance);
  if (!now) return kBadUse;
  const Site* const site = now->find_site(options.name);
  auto wanted = edit_of(options, site == nullptr ? "" : site->document_root);
  if (!wanted) return kBadUse;
  auto& [edit, body] = *wanted;
  edit.kind = SettingsEdit::Kind::change_site;
  if (body.empty()) return fail("No change given. See: uporter site change --help", kBadUse);
  return change_and_tell(instance, edit, "PATCH", "/v1/sites/" + http::percent_encode(options.name), body);
}

int run_site_remove(const std::string& settings, const std::string& name) {
  const machine::Instance instance = machine::find_instance(settings);
  SettingsEdit edit;
  edit.kind = SettingsEdit::Kind::remove_site;
  edit.site = name;
  if (!change(instance, edit, "DELETE", "/v1/sites/" + http::percent_encode(name), nullptr)) return kBadUse;
  if (is_json_wanted()) return print_changed();
  fmt::print("Removed: {}. Its folder is as it was.\n", text::escape_line(name));
  return kFine;
}

namespace {

/// The sites, as the server serves them, or as the settings have them if there is none; nullopt, with a sentence
/// printed: they cannot be told.
std::optional<Json> sites_now(const machine::Instance& instance) {
  if (machine::lock_holder(instance)) {
    const Reply reply = ask(instance, "GET", "/v1/sites");
    if (reply.status == 200) return reply.body["sites"];
    fail("The server does not answer.");
    return std::nullopt;
  }
  const auto alone = read_alone(instance);
  if (!alone) return std::nullopt;
  return machine::json_of_sites(*alone);
}

}  // namespace

int run_mount_list(const std::string& settings) {
  const auto sites = sites_now(machine::find_instance(settings));
  if (!sites) return kFailed;
  Json all = Json::array();
  for (const Json& site : *sites)
    for (const Json& mount : site["mounts"])
      all.push_back({{"site", site["name"]}, {"path", mount["path"]}, {"target", mount["target"]}});
  if (is_json_wanted()) {
    print_json({{"mounts", all}});
    return kFine;
  }
  if (all.empty()) fmt::print("No mount yet. Add one: uporter mount add PATH TARGET\n");
  std::size_t site_width = 0;
  std::size_t path_width = 0;
  for (const Json& mount : all) {
    site_width = std::max(site_width, shown(mount["site"]).size());
    path_width = std::max(path_width, shown(mount["path"]).size());
  }
  for (const Json& mount : all)
    fmt::print("{:<{}}  {:<{}}  {}\n", shown(mount["site"]), site_width, shown(mount["path"]), path_width,
               shown(mount["target"]));
  return kFine;
}

int run_site_list(const std::string& settings) {
  const auto sites = sites_now(machine::find_instance(settings));
  if (!sites) return kFailed;
  const Json& all = *sites;
  if (is_json_wanted()) {
    print_json({{"sites", all}});
    return kFine;
  }
  std::size_t name_width = 4;
  std::size_t url_width = 3;
  for (const Json& site : all) {
    name_width = std::max(name_width, site["name"].get<std::string>().size());
    url_width = std::max(url_width, site["url"].get<std::string>().size());
  }
  if (all.empty()) fmt::print("No site yet. Add one: uporter site add NAME FOLDER\n");
  for (const Json& site : all) {
    fmt::print("{:<{}}  {}{:<{}}{}  {}\n", text::escape_line(site["name"].get<std::string>()), name_width, paint().bold,
               site["url"].get<std::string>(), url_width, paint().plain,
               text::escape_line(site["folder"].get<std::string>()));
    for (const Json& mount : site["mounts"])
      fmt::print("{:<{}}  {:<{}}  {}\n", "", name_width, "  " + text::escape_line(mount["path"].get<std::string>()),
                 url_width, text::escape_line(mount["target"].get<std::string>()));
  }
  return kFine;
}

int run_mount_add(const std::string& settings, const MountOptions& options) {
  const machine::Instance instance = machine::find_instance(settings);
  SettingsEdit edit;
  edit.kind = SettingsEdit::Kind::add_mount;
  edit.is_persistent = options.is_persistent;
  edit.path = options.path;
  edit.folder = path_of(options.folder);
  if (edit.folder.empty()) return kBadUse;
  edit.site = meant_site(instance, options.site, machine::without_links(edit.folder));
  if (edit.site.empty()) return kBadUse;
  if (!edit.path.starts_with('/'))
    return fail(fmt::format("The path {} of a mount begins with a slash: /{}", text::escape_line(edit.path),
                            text::escape_line(edit.path)),
                kBadUse);
  if (edit.path == "/" && !options.replaces_pages && has_pages(instance, edit.site))
    return fail(
        fmt::format("The site {} has pages of its own at /, and the mount would hide them. Name another path, or "
                    "say so: --replace-pages",
                    text::escape_line(edit.site)),
        kBadUse);
  const auto after =
      change(instance, edit, "POST", "/v1/mounts",
             {{"site", edit.site}, {"path", edit.path}, {"target", edit.folder}, {"persistent", edit.is_persistent}});
  const Site* const site = after ? after->find_site(edit.site) : nullptr;
  if (site == nullptr) return kBadUse;
  if (is_json_wanted()) return print_changed(sites::json_of(*after, *site));
  const std::string base = url_of_site(*after, *site);
  fmt::print("{}{}{}{}  {}\n", paint().bold, base.substr(0, base.size() - 1),
             http::percent_encode_path(edit.path) + (edit.path.ends_with('/') ? "" : "/"), paint().plain,
             text::escape_line(edit.folder));
  tell_server(instance);
  return kFine;
}

int run_mount_remove(const std::string& settings, const MountOptions& options) {
  const machine::Instance instance = machine::find_instance(settings);
  SettingsEdit edit;
  edit.kind = SettingsEdit::Kind::remove_mount;
  edit.site = meant_site(instance, options.site, {});
  edit.path = options.path;
  if (edit.site.empty()) return kBadUse;
  if (!change(instance, edit, "DELETE",
              "/v1/mounts?site=" + http::percent_encode(edit.site) + "&path=" + http::percent_encode(edit.path),
              nullptr))
    return kBadUse;
  if (is_json_wanted()) return print_changed();
  fmt::print("Removed: {} of {}. Its folder is as it was.\n", text::escape_line(edit.path),
             text::escape_line(edit.site));
  return kFine;
}

}  // namespace porter::client
