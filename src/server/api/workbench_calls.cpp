// Calls for working on pages: folders to choose from, the files of a site with what would happen to each, their source,
// rehearsals, and being told when a file is saved.
#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <memory>

#include "core/exchange/base64.hpp"
#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/findings/finding_json.hpp"
#include "core/http/media_type.hpp"
#include "core/sites/choose.hpp"
#include "core/sites/route.hpp"
#include "core/text/text.hpp"
#include "machine/instance.hpp"
#include "machine/rehearsal.hpp"
#include "run/script_order.hpp"
#include "server/api/api.hpp"
#include "server/api/file_watch.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kMostEntries = 2000;
constexpr std::size_t kMostSource = 2 * 1024 * 1024;

/// The names in the folder `handle`, without "." and "..", in the order of people.
std::vector<std::string> names_in(const files::Descriptor& handle) {
  std::vector<std::string> out;
  const int own = ::openat(handle.get(), ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  const std::unique_ptr<DIR, int (*)(DIR*)> open(own < 0 ? nullptr : ::fdopendir(own), ::closedir);
  if (!open && own >= 0) ::close(own);
  while (const dirent* const entry = open ? ::readdir(open.get()) : nullptr) {
    const std::string name = entry->d_name;
    if (name != "." && name != ".." && out.size() < kMostEntries) out.push_back(name);
  }
  std::sort(out.begin(), out.end(), [](const auto& a, const auto& b) { return text::to_lower(a) < text::to_lower(b); });
  return out;
}

/// A path of a site on disk: the folder that it lies below, and the way from there.
struct OnDisk {
  std::string root;
  std::string relative;  ///< Empty: the root itself.

  std::string path() const { return relative.empty() ? root : (root == "/" ? "" : root) + "/" + relative; }
};

OnDisk on_disk(const Site& site, const std::string& path) {
  const Mount* mount = nullptr;
  for (const Mount& one : site.mounts)
    if (files::lies_in(path, one.path) && (mount == nullptr || one.path.size() > mount->path.size())) mount = &one;
  OnDisk out{mount == nullptr ? site.document_root : mount->target,
             mount == nullptr || mount->path == "/" ? path : path.substr(mount->path.size())};
  while (out.relative.starts_with('/')) out.relative.erase(0, 1);
  while (out.relative.ends_with('/')) out.relative.pop_back();
  return out;
}

/// What would happen to a request for `path`, a decoded path of `site`.
Json mark_of(const sites::ResolveContext& in, const Site& site, const std::string& path,
             const http::TypesByEnding& types) {
  auto target = http::parse_target(http::percent_encode_path(path), "GET");
  if (std::holds_alternative<http::TargetError>(target)) return {{"what", "refused"}, {"why", "It is no path."}};
  const auto outcome = sites::route_within(in, site, {"GET", std::get<http::Target>(target)}).outcome;
  if (const auto* const file = std::get_if<sites::FileFound>(&outcome))
    return {{"what", "sent"}, {"as", http::media_type(files::base_name(file->path), in.settings.media_types, types)}};
  if (const auto* const script = std::get_if<sites::ScriptFound>(&outcome))
    return {{"what", "run"}, {"as", script->rule != nullptr ? script->rule->language : run::runner_of(*script).name}};
  if (const auto* const finding = std::get_if<Finding>(&outcome))
    return {{"what", "refused"},
            {"as", code_name(finding->code)},
            {"why", text::to_utf8(sentence_of(*finding))},
            {"remedy", text::to_utf8(remedy_of(*finding))}};
  return {{"what", "redirected"}};
}

Json tree_of(const sites::ResolveContext& in, const Site& site, const std::string& path,
             const http::TypesByEnding& types) {
  const OnDisk place = on_disk(site, path);
  Json out = {{"site", site.name}, {"path", text::to_utf8(path)}, {"folder", text::to_utf8(place.path())}};
  Json entries = Json::array();
  const std::string below = path.ends_with('/') ? path : path + "/";
  const auto root = files::Folder::open(place.root);
  const auto* const open = std::get_if<files::Folder>(&root);
  if (open == nullptr) return nullptr;
  const auto folder = open->open_beneath(place.relative, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  const auto* const handle = std::get_if<files::Descriptor>(&folder);
  if (handle == nullptr) return nullptr;
  for (const std::string& name : names_in(*handle)) {
    struct stat info {};
    const bool is_there = ::fstatat(handle->get(), name.c_str(), &info, 0) == 0;
    Json entry = {{"name", text::to_utf8(name)}, {"path", text::to_utf8(below + name)}};
    if (is_there && S_ISDIR(info.st_mode)) {
      entry["what"] = "folder";
      entry["as"] = text::contains(site.script_folders, name) ? "script folder" : "";
    } else {
      entry.update(mark_of(in, site, below + name, types));
      entry["bytes"] = info.st_size;
    }
    entries.push_back(std::move(entry));
  }
  for (const Mount& mount : site.mounts) {
    const std::string_view rest = std::string_view(mount.path).substr(std::min(below.size(), mount.path.size()));
    if (!mount.path.starts_with(below) || rest.empty() || rest.find('/') != rest.npos) continue;
    struct stat info {};
    const bool is_folder = ::stat(mount.target.c_str(), &info) == 0 && S_ISDIR(info.st_mode);
    Json entry = {{"name", text::to_utf8(rest)}, {"path", text::to_utf8(mount.path)}, {"as", "mount"}};
    if (is_folder) {
      entry["what"] = "folder";
    } else {
      entry.update(mark_of(in, site, mount.path, types));
    }
    entries.push_back(std::move(entry));
  }
  out["entries"] = std::move(entries);
  return out;
}

/// What a look at folders has come to: the text of a reply, or why there is none.
using Looked = std::variant<std::string, Finding>;

/// The reply for it; `no_response` if it took too long.
Reply reply_of(std::optional<Looked> looked, const Finding& no_response) {
  if (!looked) return refused(no_response);
  if (const auto* const finding = std::get_if<Finding>(&*looked)) return refused(*finding);
  Reply reply;
  reply.text = std::move(std::get<std::string>(*looked));
  return reply;
}

}  // namespace

asio::awaitable<Reply> Api::folders(const Call& call) {
  std::string wanted = call.parameter("path").value_or("");
  if (wanted.empty()) wanted = machine::home_folder();
  if (!wanted.starts_with('/')) co_return bad_call(422, "A folder is named by its absolute path");
  const bool shows_hidden = call.parameter("hidden").value_or("") == "true";
  auto looking = look(call, [wanted, shows_hidden]() -> Looked {
    const std::string path = machine::without_links(wanted);
    const files::Descriptor handle(::open(path.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (!handle.is_open())
      return Finding{Code::folder_unreadable, {{"folder", wanted}, {"reason", files::describe({errno})}}};
    Json entries = Json::array();
    for (const std::string& name : names_in(handle)) {
      struct stat info {};
      if (::fstatat(handle.get(), name.c_str(), &info, 0) != 0 || !S_ISDIR(info.st_mode)) continue;
      if (!shows_hidden && name.starts_with('.')) continue;
      entries.push_back({{"name", text::to_utf8(name)},
                         {"path", text::to_utf8((path == "/" ? "" : path) + "/" + name)},
                         {"readable", ::faccessat(handle.get(), name.c_str(), R_OK | X_OK, 0) == 0}});
    }
    return json_text({{"path", text::to_utf8(path)},
                      {"above", path == "/" ? "" : text::to_utf8(path.rfind('/') == 0 ? "/" : files::folder_of(path))},
                      {"home", text::to_utf8(machine::home_folder())},
                      {"folders", std::move(entries)}});
  });
  auto looked = co_await std::move(looking);
  co_return reply_of(std::move(looked), no_response("The folder " + wanted));
}

asio::awaitable<Reply> Api::tree(const Call& call) {
  const auto snapshot = server_.shared_snapshot();
  const Site* const site = snapshot->settings.find_site(call.parameter("site").value_or(""));
  const std::string path = call.parameter("path").value_or("/");
  if (site == nullptr) co_return bad_call(404, "There is no such site");
  if (!path.starts_with('/')) co_return bad_call(422, "The path of a site begins with a slash");
  // What is shared by all threads outlives work that is given up, but for the last moments of a process.
  auto looking = look(call, [snapshot, site, path, &shared = server_.shared()]() -> Looked {
    const Json tree = tree_of({snapshot->settings, shared.search_path}, *site, path, shared.system_types);
    if (tree.is_null()) return Finding{Code::folder_unreadable, {{"folder", path}, {"reason", "it is not there"}}};
    return json_text(tree);
  });
  auto looked = co_await std::move(looking);
  co_return reply_of(std::move(looked), no_response("The folder " + path));
}

asio::awaitable<Reply> Api::source(const Call& call) {
  const auto snapshot = server_.shared_snapshot();
  const Site* const site = snapshot->settings.find_site(call.parameter("site").value_or(""));
  const std::string path = call.parameter("path").value_or("");
  if (site == nullptr) co_return bad_call(404, "There is no such site");
  if (!path.starts_with('/')) co_return bad_call(422, "The path of a site begins with a slash");
  const OnDisk place = on_disk(*site, path);
  auto reading = look(call, [snapshot, site, path, place, &shared = server_.shared()]() -> Looked {
    const auto refuse = [&](const std::string& reason) -> Looked {
      return Finding{Code::source_unreadable, {{"file", place.path()}, {"reason", reason}}};
    };
    const auto root = files::Folder::open(place.root);
    files::Descriptor file;
    struct stat at_root {};
    if (place.relative.empty() && ::stat(place.root.c_str(), &at_root) == 0 && S_ISREG(at_root.st_mode)) {
      file.reset(::open(place.root.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
    } else if (const auto* const folder = std::get_if<files::Folder>(&root)) {
      auto opened = folder->open_beneath(place.relative, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
      if (const auto* const error = std::get_if<files::SystemError>(&opened)) return refuse(files::describe(*error));
      file = std::move(std::get<files::Descriptor>(opened));
    }
    struct stat info {};
    if (!file.is_open() || ::fstat(file.get(), &info) != 0) return refuse("it is not there");
    if (!S_ISREG(info.st_mode)) return refuse("it is no ordinary file");
    const auto text = files::content_of(file, kMostSource);
    if (!text) return refuse("it is larger than " + text::format_limit(kMostSource));
    const bool is_text = text->find('\0') == std::string::npos;
    Json out = {{"site", site->name},
                {"path", text::to_utf8(path)},
                {"file", text::to_utf8(place.path())},
                {"bytes", text->size()},
                {"is_text", is_text},
                {"text", is_text ? text::to_utf8(*text) : std::string()}};
    out.update(mark_of({snapshot->settings, shared.search_path}, *site, path, shared.system_types));
    return json_text(out);
  });
  auto looked = co_await std::move(reading);
  co_return reply_of(std::move(looked), no_response(place.path()));
}

namespace {

/// The Host field of a browser that is at `site`.
std::string host_of(const Settings& settings, const Site& site) {
  const std::string url = sites::url_of(settings, site, sites::main_address(settings, site));
  return url.substr(std::string_view("http://").size());
}

/// What `body` asks for; a sentence if it cannot be understood.
std::variant<machine::RehearsalOrder, std::string> read_order(const Json& body) {
  machine::RehearsalOrder order;
  order.path = text_in(body, "path");
  order.query = text_in(body, "query");
  order.method = text_in(body, "method");
  order.type = text_in(body, "type");
  if (!order.path.starts_with('/')) return "The path of a site begins with a slash";
  order.path = http::percent_encode_path(order.path);
  const auto fields = fields_in(body);
  if (!fields) return "A field has a name and a value on one line";
  for (const auto& [name, value] : *fields) order.headers.push_back(name + ": " + value);
  if (body.contains("body")) order.body = text_in(body, "body");
  if (body.contains("body_base64")) {
    order.body = exchange::from_base64(text_in(body, "body_base64"));
    if (!order.body) return "The body is not base64";
  }
  return order;
}

}  // namespace

asio::awaitable<Reply> Api::rehearse(const Call& call) {
  const Json body = call.object();
  auto wanted = read_order(body);
  if (const auto* const wrong = std::get_if<std::string>(&wanted)) co_return bad_call(422, *wrong);
  auto& order = std::get<machine::RehearsalOrder>(wanted);
  const auto snapshot = server_.shared_snapshot();
  const Site* const site = snapshot->settings.find_site(text_in(body, "site"));
  if (site == nullptr) co_return bad_call(404, "There is no such site");
  if (rehearsals_.size() >= kMostRehearsals)
    co_return bad_call(503, "So many rehearsals are running already; wait for one to end");
  order.host = host_of(snapshot->settings, *site);
  machine::RehearsedRequest request;
  if (const auto problem = machine::compose(order, request)) co_return bad_call(422, *problem);
  const sites::ResolveContext in{snapshot->settings, server_.shared().search_path};
  machine::Rehearsal rehearsal(in, *site, order.host, request);
  machine::Rehearsed result;
  bool is_run = false;
  {
    const Member going_on(rehearsals_, &rehearsal);
    const WhenLeft left(call, [&rehearsal] { rehearsal.stop(); });
    auto running = stage_.run([&] { return rehearsal.run(result); });
    is_run = co_await std::move(running);
  }
  if (!is_run)
    co_return refused(Finding{Code::rehearsal_not_a_script, {{"path", text_in(body, "path")}, {"site", site->name}}});
  Reply reply;
  reply.body = machine::json_of(result, machine::ShowEnvironment::yes);
  co_return reply;
}

asio::awaitable<Reply> Api::watch(const Call& call) {
  const auto snapshot = server_.shared_snapshot();
  const Site* const site = snapshot->settings.find_site(call.parameter("site").value_or(""));
  const std::string path = call.parameter("path").value_or("");
  if (site == nullptr) co_return bad_call(404, "There is no such site");
  if (!path.starts_with('/')) co_return bad_call(422, "The path of a site begins with a slash");
  Reply reply;
  reply.type = "text/event-stream";
  reply.stream = [this, file = on_disk(*site, path).path()](Stream& stream) { return send_saves(stream, file); };
  co_return reply;
}

asio::awaitable<void> Api::send_saves(Stream& stream, std::string file) {
  FileWatch watch(server_.context(), file);
  const Member watching(watches_, &watch);
  const WhenLeft left(stream, [&watch] { watch.close(); });
  bool goes_on = co_await stream.send(watch.problem() ? ": looking\n\n" : ": watching\n\n");
  while (goes_on && !is_closed_) {
    goes_on = co_await watch.changed();
    if (goes_on) goes_on = co_await stream.send("event: saved\ndata: {}\n\n");
  }
}

}  // namespace porter::server
