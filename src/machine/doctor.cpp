// The checks of the installation, in the order in which a start would meet them.
#include "machine/doctor.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <filesystem>

#include "core/files/beneath.hpp"
#include "core/files/paths.hpp"
#include "core/http/target.hpp"
#include "core/sites/route.hpp"
#include "core/sites/shown_names.hpp"
#include "core/text/text.hpp"
#include "machine/port_holder.hpp"

namespace porter::machine {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kMostScripts = 500;

SettingsProblem finding_in(Finding finding, const std::string& file) { return {std::move(finding), file, 0, 0, {}}; }

std::string counted(std::size_t count, const std::string& one, const std::string& many) {
  return std::to_string(count) + " " + (count == 1 ? one : many);
}

Check check_state(const Instance& instance, const Standing& standing) {
  Check check{"The server",
              standing.is_running ? "running (process " + std::to_string(standing.process) + ")" : "not running",
              {}};
  if (const auto left_behind = standing.is_running ? std::nullopt : killed_holder(instance))
    check.findings.push_back(
        finding_in({Code::stale_state,
                    {{"file", instance.lock}, {"process", std::to_string(*left_behind)}, {"option", standing.option}}},
                   instance.lock));
  return check;
}

Check check_address(const Settings& settings, const Address& address, const Standing& standing) {
  Check check{"The address " + address.text(), "free", {}};
  const auto holder = find_port_holder(address.port);
  if (holder && standing.is_running && holder->id == standing.process) {
    check.state = "open";
  } else if (holder) {
    check.state = "taken";
    check.findings.push_back(finding_in(
        {Code::port_taken, {{"port", std::to_string(address.port)}, {"holder", text_of(*holder)}}}, settings.file));
  } else if (address.port < first_open_port() && ::geteuid() != 0) {
    check.state = "reserved";
    check.findings.push_back(
        finding_in({Code::port_reserved, {{"port", std::to_string(address.port)}}}, settings.file));
  }
  return check;
}

Check check_root(const Site& site) {
  Check check{"The document root of \"" + site.name + "\"", {}, {}};
  std::error_code error;
  std::size_t count = 0;
  for (fs::directory_iterator entry(site.document_root, error), end; !error && entry != end; entry.increment(error))
    ++count;
  check.state = site.document_root + ", " + counted(count, "entry", "entries");
  if (error) {
    check.findings.push_back(finding_in({Code::document_root_gone,
                                         {{"root", site.document_root},
                                          {"root_quoted", text::shell_word(site.document_root)},
                                          {"reason", error.message()}}},
                                        site.document_root));
  } else if (count == 0 && site.mounts.empty()) {
    check.findings.push_back(finding_in(
        {Code::root_empty, {{"root", site.document_root}, {"root_quoted", text::shell_word(site.document_root)}}},
        site.document_root));
  }
  return check;
}

/// Asks for every file in the site's script folders what a request for it would lead to.
Check check_scripts(const sites::Surroundings& in, const Site& site) {
  Check check{"The scripts of \"" + site.name + "\"", {}, {}};
  std::size_t fine = 0;
  for (const std::string& name : site.script_folders) {
    const std::string folder = site.document_root + "/" + name;
    std::error_code error;
    for (fs::recursive_directory_iterator entry(folder, error), end; !error && entry != end; entry.increment(error)) {
      const std::string path = entry->path().string();
      if (!entry->is_regular_file(error) || sites::is_hidden(site, files::base_name(path))) continue;
      if (fine + check.findings.size() == kMostScripts) break;
      const std::string url = http::percent_encode_path(path.substr(site.document_root.size()));
      const auto target = http::parse_target(url, "GET");
      if (std::holds_alternative<http::TargetError>(target)) continue;
      auto route = sites::route_within(in, site, {"GET", std::get<http::Target>(target)});
      if (auto* const finding = std::get_if<Finding>(&route.outcome)) {
        check.findings.push_back(finding_in(std::move(*finding), path));
      } else {
        ++fine;
      }
    }
  }
  check.state = counted(fine, "runs", "run");
  if (fine + check.findings.size() == 0) check.state = "none in a script folder";
  return check;
}

Check check_interpreters(const sites::Surroundings& in) {
  Check check{"Interpreters", {}, {}};
  std::string missing;
  std::size_t found = 0;
  for (const script::Interpreter& interpreter : in.settings.interpreters) {
    if (!files::find_program(interpreter.program, in.search_path).empty()) {
      ++found;
    } else {
      missing += (missing.empty() ? "" : ", ") + interpreter.language;
    }
  }
  check.state = std::to_string(found) + " found" + (missing.empty() ? "" : "; not installed: " + missing);
  return check;
}

Check check_access_log(const AccessLog& log) {
  Check check{"The access log", log.file, {}};
  const std::string folder(files::folder_of(log.file));
  const bool exists = ::access(log.file.c_str(), F_OK) == 0;
  if (::access(exists ? log.file.c_str() : folder.c_str(), W_OK) != 0)
    check.findings.push_back(finding_in({Code::log_unwritable,
                                         {{"file", log.file},
                                          {"folder_quoted", text::shell_word(folder)},
                                          {"reason", files::describe({errno})},
                                          {"lost", "0"}}},
                                        log.file));
  return check;
}

}  // namespace

std::vector<Check> examine(const Instance& instance, SettingsRead read, const std::string& search_path,
                           const Standing& standing) {
  const Settings& settings = read.settings;
  const sites::Surroundings in{settings, search_path};
  std::vector<Check> out;
  if (!instance.settings.empty()) {
    const bool exists = ::access(instance.settings.c_str(), F_OK) == 0;
    out.push_back(
        {"The settings",
         instance.settings + (exists ? ", " + counted(settings.sites.size(), "site", "sites") : " (not there yet)"),
         std::move(read.problems)});
  }
  out.push_back(check_state(instance, standing));
  for (const Listener& listener : settings.listeners())
    out.push_back(check_address(settings, listener.address, standing));
  for (const Site& site : settings.sites) {
    if (site.document_root.empty()) continue;
    out.push_back(check_root(site));
    out.push_back(check_scripts(in, site));
  }
  out.push_back(check_interpreters(in));
  if (!settings.access_log.file.empty()) out.push_back(check_access_log(settings.access_log));
  return out;
}

}  // namespace porter::machine
