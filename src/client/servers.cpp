// See servers.hpp.
#include "client/servers.hpp"

#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <filesystem>

#include "client/control_client.hpp"
#include "client/output.hpp"
#include "core/files/paths.hpp"

namespace porter::client {
namespace {

using Json = nlohmann::json;

/// For each of several servers, of which one may hang.
constexpr std::chrono::seconds kPatienceWithEach{2};

bool listens_at(const RunningServer& server, int port) {
  const Json none = Json::array();
  const Json& addresses = server.status.is_object() ? server.status["addresses"] : none;
  return std::any_of(addresses.begin(), addresses.end(),
                     [port](const Json& address) { return address["port"] == port; });
}

/// "/srv/ferry at localhost:8080, …", for people.
std::string text_of(const std::vector<RunningServer>& servers) {
  std::string out;
  for (const RunningServer& server : servers) {
    out += (out.empty() ? "" : ", ") + server.instance.subject();
    if (server.status.is_object() && !server.status["addresses"].empty())
      out += " at " + server.status["addresses"][0]["address"].get<std::string>();
  }
  return out;
}

Finding several(const ServerChoice& meant, const std::vector<RunningServer>& servers) {
  Finding finding{Code::several_servers, {{"servers", text_of(servers)}, {"command", meant.command}}};
  for (const RunningServer& server : servers) {
    if (!server.status.is_object() || server.status["addresses"].empty()) continue;
    finding.facts.emplace_back("port", std::to_string(server.status["addresses"][0]["port"].get<int>()));
    break;
  }
  return finding;
}

/// How much of `path` is in the folders that the server shows: the length of the deepest one that it lies in; 0: none.
std::size_t depth_of(const std::string& path, const RunningServer& server) {
  std::size_t deepest = 0;
  const auto look_at = [&](const std::string& folder) {
    if (files::lies_in(path, folder)) deepest = std::max(deepest, folder.size());
  };
  if (!server.instance.settings.empty()) look_at(std::string(files::folder_of(server.instance.settings)));
  if (!server.status.is_object()) return deepest;
  for (const Json& site : server.status["sites"]) {
    look_at(site["folder"].get<std::string>());
    for (const Json& mount : site["mounts"]) look_at(mount["target"].get<std::string>());
  }
  return deepest;
}

/// Those of `servers` that show `path`, and none that shows less of it.
std::vector<RunningServer> showing(const std::string& path, const std::vector<RunningServer>& servers) {
  std::vector<RunningServer> out;
  std::size_t deepest = 1;
  for (const RunningServer& server : servers) {
    const std::size_t depth = depth_of(path, server);
    if (depth < deepest || depth == 0) continue;
    if (depth > deepest) out.clear();
    deepest = depth;
    out.push_back(server);
  }
  return out;
}

std::variant<machine::Instance, Finding> find_at(const ServerChoice& meant) {
  const auto all = running_servers();
  for (const RunningServer& server : all)
    if (listens_at(server, meant.port)) return server.instance;
  Finding finding{Code::no_server_at, {{"port", std::to_string(meant.port)}}};
  if (!all.empty()) finding.facts.emplace_back("servers", text_of(all));
  return finding;
}

}  // namespace

std::vector<RunningServer> running_servers() {
  std::vector<RunningServer> out;
  for (machine::Instance& instance : machine::running_instances()) {
    const Reply reply = ask(instance, "GET", "/v1/status", nullptr, kPatienceWithEach);
    out.push_back({std::move(instance), reply.status == 200 ? reply.body : Json()});
  }
  std::sort(out.begin(), out.end(), [](const RunningServer& left, const RunningServer& right) {
    return left.instance.subject() < right.instance.subject();
  });
  return out;
}

std::variant<machine::Instance, Finding> find_server(const ServerChoice& meant, const std::string& near) {
  if (meant.port > 0) return find_at(meant);
  const std::string usual = machine::find_settings_file(meant.settings);
  const machine::Instance of_settings = machine::find_instance(usual);
  const bool is_here = files::folder_of(usual) == current_folder() && ::access(usual.c_str(), F_OK) == 0;
  if (!meant.settings.empty() || is_here) return of_settings;
  const auto all = running_servers();
  const auto near_ones = showing(near, all);
  if (near_ones.size() == 1) return near_ones.front().instance;
  if (machine::lock_holder(of_settings) || all.empty()) return of_settings;
  if (all.size() == 1) return all.front().instance;
  return several(meant, near_ones.empty() ? all : near_ones);
}

std::variant<machine::Instance, Finding> find_server(const ServerChoice& meant) {
  return find_server(meant, machine::without_links(current_folder()));
}

std::optional<machine::Instance> found_or_told(std::variant<machine::Instance, Finding> found) {
  if (const auto* const finding = std::get_if<Finding>(&found)) {
    fail(*finding);
    return std::nullopt;
  }
  return std::get<machine::Instance>(std::move(found));
}

std::string current_folder() {
  std::error_code error;
  const std::string here = std::filesystem::current_path(error).string();
  return error ? "/" : here;
}

Finding not_running(const machine::Instance& instance) {
  return {Code::server_not_running, {{"settings", instance.settings}, {"option", instance.option()}}};
}

Finding unreachable(const machine::Instance& instance, const std::string& reason) {
  Finding finding{Code::server_unreachable,
                  {{"subject", instance.subject()}, {"reason", reason}, {"option", instance.option()}}};
  if (const pid_t process = machine::lock_holder(instance).value_or(0); process > 0)
    finding.facts.emplace_back("process", std::to_string(process));
  return finding;
}

}  // namespace porter::client
