// The command line of a rehearsal, and its telling for people.
#include "client/rehearse.hpp"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <climits>
#include <cstdio>

#include "client/output.hpp"
#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/http/host.hpp"
#include "core/http/status.hpp"
#include "core/script/script_head.hpp"
#include "core/settings/read_settings.hpp"
#include "core/sites/choose.hpp"
#include "core/sites/places.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/instance.hpp"
#include "machine/rehearsal.hpp"
#include "run/warden.hpp"

namespace porter::client {

namespace {

int bad_use(const std::string& sentence) { return fail(sentence, kBadUse); }

/// The document root for a script on disk: the nearest folder above its script folder, else its own folder.
std::string root_for(const std::string& path) {
  const std::string mark = "/cgi-bin/";
  const std::size_t at = path.find(mark);
  return at == path.npos || at == 0 ? path.substr(0, path.rfind('/')) : path.substr(0, at);
}

void print_text(const machine::Rehearsed& result, const RehearseOptions& options) {
  fmt::print("Command      {}\n", text::escape_line(result.command));
  if (options.show_environment) {
    fmt::print("Environment\n");
    for (const std::string& variable : result.environment) fmt::print("  {}\n", text::escape_line(variable));
  }
  for (const std::string& path : result.redirected_to) fmt::print("Goes on at   {}\n", text::escape_line(path));
  fmt::print("Response     {} {}\n", result.status,
             result.reason.empty() ? http::reason_phrase(result.status) : result.reason);
  for (const auto& [name, value] : result.fields) fmt::print("  {}: {}\n", name, text::escape_line(value));
  if (!result.body.empty())
    fmt::print("Page         {}\n{}{}", text::format_size(result.body.size()), result.body,
               result.body.ends_with('\n') ? "" : "\n");
  if (!result.printed.empty())
    fmt::print("Printed      {} before it failed\n{}{}", text::format_size(result.printed.size()), result.printed,
               result.printed.ends_with('\n') ? "" : "\n");
  if (!result.error_text.empty()) {
    fmt::print("Error stream\n");
    for (const std::string& line : script::last_lines(result.error_text, 40))
      fmt::print("  {}\n", text::show_line(line));
  }
  if (result.end) {
    const std::string how = result.end->signal ? "ended by " + script::signal_name(*result.end->signal)
                                               : fmt::format("exit status {}", result.end->exit_status.value_or(0));
    const auto took = std::chrono::round<std::chrono::milliseconds>(result.end->duration);
    fmt::print("Run          {}, {} ms, {} at most\n", how, took.count(),
               text::format_size(static_cast<std::uint64_t>(result.end->peak_memory_kib) * 1024));
  }
  for (const Finding& finding : result.findings)
    fmt::print("Finding      {}: {}\n             {}\n", code_name(finding.code),
               text::escape_line(sentence_of(finding)), text::escape_lines(remedy_of(finding), "    "));
}

/// The place of a script: the settings, which of their sites it belongs to, and its path there.
struct Place {
  Settings settings;
  std::size_t site = 0;
  std::string url_path;
};

/// Settings of nothing but one document root, for a script that belongs to no site.
Settings settings_for(const std::string& root) {
  Settings settings;
  settings.sites.emplace_back();
  settings.sites.front().name = "rehearsal";
  settings.sites.front().document_root = root;
  return settings;
}

/// Finds the site that shows the file at `path`; false if none does.
bool find_site_of(const std::string& path, Place& place) {
  const auto places = sites::places_of(place.settings, path);
  if (places.empty()) return false;
  place.site = static_cast<std::size_t>(places.front().site - place.settings.sites.data());
  place.url_path = http::percent_encode_path(places.front().path);
  return true;
}

/// Finds the site that answers for the host and port; false if none does.
bool find_site_of(const http::Host& host, Place& place) {
  for (const Listener& listener : place.settings.listeners()) {
    if (listener.address.port != host.port.value_or(80)) continue;
    const auto chosen = sites::choose_site(place.settings, listener, host);
    const auto* const found = std::get_if<sites::Chosen>(&chosen);
    if (found == nullptr || found->site == nullptr) continue;
    place.site = static_cast<std::size_t>(found->site - place.settings.sites.data());
    return true;
  }
  return false;
}

/// Other paths of the site by which its settings lead to the script at `path`, for people; empty: none do.
std::string served_under(const Site& site, const std::string& path) {
  for (const Mount& mount : site.mounts)
    if (mount.target == path) return "every path from " + mount.path + " on";
  for (const Fallback& fallback : site.fallbacks)
    if (fallback.root + "/" + fallback.script == path)
      return "every path from " + fallback.path + " on that leads to no file";
  return {};
}

/// Reads a URL: its host and query become options. A sentence if it cannot be asked for.
std::optional<std::string> place_of_url(RehearseOptions& options, Place& place) {
  auto parsed = http::parse_target(options.script, "GET");
  if (std::holds_alternative<http::TargetError>(parsed))
    return fmt::format("{} is not a URL that could be asked for.", text::escape_line(options.script));
  auto& target = std::get<http::Target>(parsed);
  options.host = *target.authority;
  place.url_path = target.raw_path;
  if (options.query.empty()) options.query = target.query;
  const auto host = http::parse_host(options.host);
  if (options.root.empty() && host && find_site_of(*host, place)) return std::nullopt;
  const std::string root = options.root.empty() ? "." : options.root;
  std::array<char, PATH_MAX> real{};
  if (::realpath(root.c_str(), real.data()) == nullptr)
    return fmt::format("There is no folder {}.", text::escape_line(root));
  place.settings = settings_for(real.data());
  place.site = 0;
  return std::nullopt;
}

std::optional<std::string> place_of_file(const RehearseOptions& options, Place& place) {
  // The last part stays as it is written, since a link's own name may decide how it is run.
  const std::size_t slash = options.script.rfind('/');
  const std::string folder = slash == std::string::npos ? "." : options.script.substr(0, slash + 1);
  std::array<char, PATH_MAX> real{};
  struct stat info {};
  if (::stat(options.script.c_str(), &info) != 0 || ::realpath(folder.c_str(), real.data()) == nullptr)
    return fmt::format("There is no script {}.", text::escape_line(options.script));
  const std::string path = std::string(real.data()) + "/" + options.script.substr(slash + 1);
  if (options.root.empty() && find_site_of(path, place)) {
    const std::string under = served_under(place.settings.sites[place.site], path);
    if (!under.empty())
      std::fprintf(stderr, "%s answers for %s; this rehearses %s. For another: --at URL\n",
                   text::escape_line(path).c_str(), text::escape_line(under).c_str(),
                   text::escape_line(place.url_path).c_str());
    return std::nullopt;
  }
  const std::string root = options.root.empty() ? root_for(path) : options.root;
  if (::realpath(root.c_str(), real.data()) == nullptr || !path.starts_with(std::string(real.data()) + "/"))
    return fmt::format("{} does not lie below the document root {}. Name the right one: --document-root FOLDER",
                       text::escape_line(path), text::escape_line(root));
  place.settings = settings_for(real.data());
  place.site = 0;
  place.url_path = http::percent_encode_path(path.substr(std::string(real.data()).size()));
  return std::nullopt;
}

}  // namespace

int run_rehearse(const RehearseOptions& given) {
  RehearseOptions options = given;
  Place place;
  SettingsRead read = machine::read_settings_file(machine::find_settings_file(options.settings));
  // Settings with mistakes are served by nobody; a script can be rehearsed all the same.
  if (read.problems.empty()) place.settings = std::move(read.settings);
  std::string named;  // A script that is rehearsed as it answers at another path than its own.
  if (!options.at.empty()) {
    std::array<char, PATH_MAX> real{};
    if (::realpath(options.script.c_str(), real.data()) == nullptr)
      return bad_use("There is no script " + text::escape_line(options.script) + ".");
    named = real.data();
    options.script = options.at;
  }
  const auto misplaced =
      options.script.starts_with("http://") ? place_of_url(options, place) : place_of_file(options, place);
  if (misplaced) return bad_use(*misplaced);
  const Settings& settings = place.settings;
  const Site& site = settings.sites[place.site];
  place.url_path += http::percent_encode_path(options.path_info);
  machine::RehearsalOrder order{place.url_path, options.query,   options.method, options.host,
                                options.type,   options.headers, std::nullopt};
  if (!options.body.empty()) {
    auto body = body_from(options.body);
    if (const auto* const problem = std::get_if<Unreadable>(&body)) return bad_use(problem->sentence);
    order.body = std::move(std::get<std::string>(body));
  }
  machine::RehearsedRequest request;
  if (const auto problem = machine::compose(order, request)) return bad_use(*problem);
  const std::string search_path = machine::search_path();
  const sites::ResolveContext in{settings, search_path};
  machine::Rehearsed result;
  bool is_run = false;
  {
    // What the script starts ends with the rehearsal, as it ends with a request.
    const run::ScopedKin kin;
    is_run = machine::Rehearsal(in, site, options.host, request).run(result);
  }
  if (!is_run)
    return bad_use(
        fmt::format("{} is not run but shown as it is: it is not a script, and does not lie in a script folder.",
                    text::escape_line(given.script)));
  if (!named.empty() && machine::without_links(result.script) != named)
    return bad_use(fmt::format("{} does not lead to {} but to {}.", text::escape_line(given.at),
                               text::escape_line(named),
                               result.script.empty() ? "no script" : text::escape_line(result.script)));
  if (options.body_only) {
    std::fwrite(result.body.data(), 1, result.body.size(), stdout);
    for (const Finding& finding : result.findings)
      std::fprintf(stderr, "%s: %s\n", std::string(code_name(finding.code)).c_str(), sentence_of(finding).c_str());
  } else if (is_json_wanted()) {
    const auto environment = options.show_environment ? machine::ShowEnvironment::yes : machine::ShowEnvironment::no;
    print_json(machine::json_of(result, environment));
  } else {
    print_text(result, options);
  }
  return result.status < 400 ? kFine : kFailed;
}

}  // namespace porter::client
