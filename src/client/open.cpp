// Opening the browser at a site, a file or the console. See open.hpp.
#include "client/open.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <array>
#include <climits>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <optional>
#include <system_error>
#include <utility>
#include <vector>

#include "client/control_client.hpp"
#include "client/instance_commands.hpp"
#include "client/output.hpp"
#include "client/serve.hpp"
#include "client/servers.hpp"
#include "core/files/descriptor.hpp"
#include "core/files/paths.hpp"
#include "core/http/target.hpp"
#include "core/sites/choose.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"

namespace porter::client {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;

/// Prints where it is, a "url" or a "folder", so that it is seen before a window comes.
void print_place(const char* kind, const std::string& place) {
  if (is_json_wanted()) {
    print_json({{kind, text::to_utf8(place)}});
  } else {
    fmt::print("{}\n", text::escape_line(place));
  }
  std::fflush(stdout);
}

/// Has the desktop open `place`, if there is a screen.
int open_place(const std::string& place) {
  if (machine::has_display()) run_here("xdg-open", {"xdg-open", place});
  return kFine;
}

/// Shows `url`, and opens the browser at `place`, which leads there.
int open_url(const std::string& url, const std::string& place) {
  print_place("url", url);
  return open_place(place);
}

/// Writes a page that leads on to `url`, for nobody else to read. Its path; empty: it could not be written.
std::string page_leading_to(const std::string& url, const std::string& path) {
  const std::string address = text::escape_html(url);
  const std::string page =
      "<!doctype html>\n<meta charset=\"utf-8\">\n<meta name=\"referrer\" content=\"no-referrer\">\n"
      "<meta http-equiv=\"refresh\" content=\"0; url=" +
      address +
      "\">\n<title>Upright Porter</title>\n"
      "<p><a href=\"" +
      address + "\">The console</a></p>\n";
  ::unlink(path.c_str());
  const files::Descriptor file(::open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0600));
  const bool is_written =
      file.is_open() && ::write(file.get(), page.data(), page.size()) == static_cast<ssize_t>(page.size());
  return is_written ? path : "";
}

/// The console of the server that is meant; with several, that of the settings.
int open_console(const std::string& named) {
  const auto found = found_or_told(find_server(ServerChoice{named, 0, "uporter open console"}));
  if (!found) return kFailed;
  if (!machine::lock_holder(*found)) return fail(not_running(*found));
  const Reply reply = ask(*found, "GET", "/v1/status");
  if (reply.status != 200) return fail(unreachable(*found, "it did not answer"));
  const std::string url = reply.body.value("console", "");
  if (url.empty())
    return fail("This server has no console: its settings say console = false, or its port could not be had.");
  // What a program is given stands in the list of processes, where all users of the machine can read it, and the URL
  // has the key. So the browser is given a file that leads there.
  const std::string page = page_leading_to(url, found->console_key + ".html");
  if (page.empty()) {
    print_place("url", url);
    return fail("The page that leads the browser there cannot be written. Open the URL above by hand.");
  }
  return open_url(url, page);
}

/// The file or folder that `what` names by its path or its file:// URL, as an absolute path; empty: it names none.
std::string named_file(const std::string& what) {
  std::string path = what;
  if (what.starts_with("file://")) {
    const std::size_t begin = what.find('/', std::string_view("file://").size());
    path = begin == what.npos ? "" : http::percent_decode(what.substr(begin)).value_or("");
  }
  std::array<char, PATH_MAX> real{};
  if (path.empty() || ::realpath(path.c_str(), real.data()) == nullptr) return {};
  return real.data();
}

/// The folder of the project that the file or folder `path` belongs to: the nearest one above that has an index file,
/// a script folder or a repository; else the folder itself. The home folder, and what lies above it, is no project.
std::string project_around(const std::string& path) {
  constexpr std::string_view kSigns[] = {"index.html", "index.htm", "index.php", "index.py",
                                         "index.cgi",  "index.pl",  "cgi-bin",   ".git"};
  std::error_code error;
  const std::string own = fs::is_directory(path, error) ? path : std::string(files::folder_of(path));
  const char* const home = std::getenv("HOME");
  const std::string home_folder = home == nullptr ? "" : machine::without_links(home);
  for (std::string folder = own; folder.size() > 1; folder = files::folder_of(folder)) {
    if (folder == home_folder || home_folder.starts_with(folder + "/")) break;
    for (const std::string_view sign : kSigns)
      if (fs::exists(folder + "/" + std::string(sign), error)) return folder;
  }
  return own;
}

/// The URL under which the server of `instance` shows `path`, if it does; empty: it does not.
std::string url_at(const machine::Instance& instance, const std::string& path) {
  const Reply reply = ask(instance, "POST", "/v1/explain", {{"what", path}});
  if (reply.status != 200 || !reply.body.contains("urls") || reply.body["urls"].empty()) return {};
  return reply.body["urls"].front().get<std::string>();
}

/// The server that is to show what none shows yet: that of the settings named, else that of the user, else any that
/// runs; started if none does. nullopt: none is to be had, and that has been told.
std::optional<machine::Instance> server_for_more(const std::string& named, const std::vector<RunningServer>& all) {
  machine::Instance wanted = machine::find_instance(named);
  if (machine::lock_holder(wanted)) return wanted;
  if (named.empty())
    for (const RunningServer& server : all)
      if (server.status.is_object()) return server.instance;
  if (run_start(named, "", Told::nothing) != kFine) return std::nullopt;
  return machine::find_instance(named);
}

/// Opens the browser at the file or folder `path`, by whichever server shows it.
int open_path(const std::string& named, const std::string& path) {
  const auto running = running_servers();
  for (const RunningServer& server : running) {
    if (!named.empty() && server.instance.settings != machine::find_instance(named).settings) continue;
    if (const std::string url = url_at(server.instance, path); !url.empty()) return open_url(url, url);
  }
  const auto server = server_for_more(named, running);
  if (!server) return kFailed;
  // The settings of one that was just started may have it.
  if (const std::string url = url_at(*server, path); !url.empty()) return open_url(url, url);
  const std::string folder = project_around(path);
  const Json site = {{"name", std::string(files::base_name(folder))}, {"folder", folder}, {"until_stop", true}};
  const Reply added = ask(*server, "POST", "/v1/sites", site);
  if (added.status != 201) {
    if (added.status == 0) return fail(unreachable(*server, added.body.get<std::string>()));
    return fail_with(added.body);
  }
  const std::string url = url_at(*server, path);
  if (url.empty())
    return fail(fmt::format("No URL leads to {}. See why: uporter explain {}", text::escape_line(path),
                            text::shell_word(path)));
  if (!is_json_wanted())
    fmt::print("{} is shown as the site {} until the server stops. To keep it: uporter site add {} {}\n",
               text::escape_line(folder), added.body["site"].value("name", ""), added.body["site"].value("name", ""),
               text::shell_word(folder));
  return open_url(url, url);
}

}  // namespace

int run_open(const std::string& named, const std::string& what) {
  const machine::Instance instance = machine::find_instance(named);
  const SettingsRead read = machine::read_settings_file(instance.settings);
  const Site* const site = what.empty() ? nullptr : read.settings.find_site(what);
  // A site of that name comes first.
  if (what == "console" && site == nullptr) return open_console(named);
  if (what == "root" && site == nullptr && named_file(what).empty()) {
    if (read.settings.sites.empty()) return fail("There is no site yet. Add one: uporter site add NAME FOLDER");
    const std::string& folder = read.settings.sites.front().document_root;
    print_place("folder", folder);
    return open_place(folder);
  }
  if (site == nullptr && !what.empty()) {
    const std::string path = named_file(what);
    if (!path.empty()) return open_path(named, path);
    if (what.starts_with("file://"))
      return fail(fmt::format("{} names no file of this machine.", text::escape_line(what)), kBadUse);
    if (what.starts_with("http://") || what.starts_with("https://")) return open_url(what, what);
    return fail(
        fmt::format("{} is no site, and no file or folder. The sites: uporter site list", text::escape_line(what)),
        kBadUse);
  }
  if (!read.problems.empty()) return fail(read.problems);
  const Settings& settings = read.settings;
  std::string url = "http://localhost:" + std::to_string(settings.listeners().front().address.port) + "/";
  if (const Site* const meant = site != nullptr ? site : settings.sites.empty() ? nullptr : &settings.sites.front())
    url = sites::url_of(settings, *meant, sites::main_address(settings, *meant)) + "/";
  if (!machine::lock_holder(instance)) {
    print_place("url", url);
    return fail({Code::server_not_running, {{"settings", instance.settings}, {"option", instance.option()}}});
  }
  return open_url(url, url);
}

}  // namespace porter::client
