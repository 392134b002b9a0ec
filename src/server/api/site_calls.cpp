// Calls about the sites and their mounts: those that are served, and changes of the settings.
#include <algorithm>
#include <filesystem>
#include <system_error>

#include "core/sites/choose.hpp"
#include "core/sites/site_json.hpp"
#include "core/text/text.hpp"
#include "machine/instance.hpp"
#include "machine/network_urls.hpp"
#include "server/api/api.hpp"

namespace porter::server {

asio::awaitable<Reply> Api::sites(const Call&) {
  return on_helper_thread([](const Snapshot& now) { return Json{{"sites", machine::json_of_sites(now.settings)}}; });
}

asio::awaitable<Reply> Api::mounts(const Call&) {
  return on_helper_thread([](const Snapshot& now) {
    Json all = Json::array();
    for (const Site& site : now.settings.sites)
      for (const Mount& mount : site.mounts)
        all.push_back(
            {{"site", site.name}, {"path", text::to_utf8(mount.path)}, {"target", text::to_utf8(mount.target)}});
    return Json{{"mounts", std::move(all)}};
  });
}

namespace {

/// Takes what `body` says of a site into `edit`; a sentence if something is wrong with it.
std::optional<std::string> read_site(const Json& body, SettingsEdit& edit) {
  edit.folder = text_in(body, "folder");
  edit.root_of = text_in(body, "root_of");
  edit.reach = text_in(body, "reach");
  if (!edit.reach.empty() && edit.reach != "network" && edit.reach != "this-computer")
    return "The reach of a site is \"this-computer\" or \"network\"";
  if (!edit.folder.empty() && !edit.folder.starts_with('/')) return "The folder of a site is an absolute path";
  if (const auto hosts = body.find("hosts"); hosts != body.end() && hosts->is_array())
    for (const Json& host : *hosts)
      if (host.is_string()) edit.hosts.push_back(host.get<std::string>());
  if (const auto port = body.find("port"); port != body.end()) {
    if (!port->is_number_unsigned() || port->get<std::uint64_t>() < 1 || port->get<std::uint64_t>() > 65535)
      return "A port is a number from 1 to 65535";
    edit.port = port->get<std::uint16_t>();
  }
  if (body.contains("fallback")) edit.fallback = text_in(body, "fallback");
  return std::nullopt;
}

}  // namespace

asio::awaitable<Reply> Api::add_site(const Call& call) {
  const Json body = call.object();
  SettingsEdit edit;
  edit.kind = SettingsEdit::Kind::add_site;
  edit.site = text_in(body, "name");
  if (const auto wrong = read_site(body, edit)) co_return bad_call(422, *wrong);
  if (edit.site.empty() || edit.folder.empty())
    co_return bad_call(422, "A site needs a name and a folder, as an absolute path");
  if (const auto until = body.find("until_stop"); until != body.end() && until->is_boolean() && until->get<bool>())
    co_return show_until_stop(edit);
  Reply reply = co_await changed(edit, 201);
  co_return reply;
}

Reply Api::show_until_stop(const SettingsEdit& edit) {
  std::error_code error;
  if (!std::filesystem::is_directory(edit.folder, error))
    return refused(Finding{Code::folder_unreadable, {{"folder", edit.folder}, {"reason", "there is no such folder"}}});
  const std::string folder = machine::without_links(edit.folder);
  const Settings& settings = server_.snapshot().settings;
  // Two who ask for the same get the same.
  for (const Site& known : settings.sites)
    if (known.is_until_stop && known.document_root == folder)
      return {201, {{"findings", Json::array()}, {"site", sites::json_of(settings, known)}}};
  constexpr std::ptrdiff_t kMost = 100;
  if (std::count_if(settings.sites.begin(), settings.sites.end(),
                    [](const Site& known) { return known.is_until_stop; }) >= kMost)
    return bad_call(422, "There are 100 sites until the server stops; write others to the settings");
  // As a host has it, and of no other site.
  const std::string base = sites::name_as_host(edit.site);
  std::string name = base;
  for (int i = 2; settings.find_site(name) != nullptr; ++i) name = base + "-" + std::to_string(i);
  Site site;
  site.name = name;
  site.document_root = folder;
  site.written_root = edit.folder;
  site.hosts = {name + ".localhost"};
  site.is_until_stop = true;
  if (const auto findings = server_.show_until_stop(std::move(site)); !findings.empty())
    return refused(findings.front());
  const Settings& now = server_.snapshot().settings;
  Reply reply{201, {{"findings", Json::array()}}};
  if (const Site* const shown = now.find_site(name)) reply.body["site"] = sites::json_of(now, *shown);
  return reply;
}

asio::awaitable<Reply> Api::change_site(const Call& call) {
  const Json body = call.object();
  SettingsEdit edit;
  edit.kind = SettingsEdit::Kind::change_site;
  edit.site = call.rest_of_path("/v1/sites/");
  if (const auto wrong = read_site(body, edit)) co_return bad_call(422, *wrong);
  if (body.empty()) co_return bad_call(422, "No change given");
  Reply reply = co_await changed(edit, 200);
  co_return reply;
}

asio::awaitable<Reply> Api::remove_site(const Call& call) {
  SettingsEdit edit;
  edit.kind = SettingsEdit::Kind::remove_site;
  edit.site = call.rest_of_path("/v1/sites/");
  Reply reply = co_await changed(edit, 200);
  co_return reply;
}

asio::awaitable<Reply> Api::add_mount(const Call& call) {
  const Json body = call.object();
  SettingsEdit edit;
  edit.kind = SettingsEdit::Kind::add_mount;
  edit.site = text_in(body, "site");
  edit.path = text_in(body, "path");
  edit.folder = text_in(body, "target");
  if (const auto wanted = body.find("persistent"); wanted != body.end() && wanted->is_boolean())
    edit.is_persistent = wanted->get<bool>();
  if (edit.site.empty() || !edit.path.starts_with('/') || !edit.folder.starts_with('/'))
    co_return bad_call(422, "A mount needs a site, a path that begins with a slash, and a target, as an absolute path");
  Reply reply = co_await changed(edit, 201);
  co_return reply;
}

asio::awaitable<Reply> Api::remove_mount(const Call& call) {
  SettingsEdit edit;
  edit.kind = SettingsEdit::Kind::remove_mount;
  edit.site = call.parameter("site").value_or("");
  edit.path = call.parameter("path").value_or("");
  Reply reply = co_await changed(edit, 200);
  co_return reply;
}

asio::awaitable<Reply> Api::changed(const SettingsEdit& edit, int status) {
  if (steering_ == nullptr) co_return refused(no_settings());
  const auto findings = co_await steering_->edit(edit);
  if (!findings.empty()) co_return refused(findings);
  const Settings& settings = server_.snapshot().settings;
  Reply reply{status, {{"findings", Json::array()}}};
  if (const Site* const site = settings.find_site(edit.site)) reply.body["site"] = sites::json_of(settings, *site);
  co_return reply;
}

}  // namespace porter::server
