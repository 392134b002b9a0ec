// Answering the control interface, each call in a function of its own. Requests are read by the same grammar as those
// of browsers.
#include "server/api/control.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/write.hpp>
#include <charconv>
#include <functional>
#include <nlohmann/json.hpp>

#include "core/files/beneath.hpp"
#include "core/findings/finding_json.hpp"
#include "core/http/body.hpp"
#include "core/http/head.hpp"
#include "core/http/status.hpp"
#include "core/http/target.hpp"
#include "core/sites/choose.hpp"
#include "core/text/text.hpp"
#include "machine/explain.hpp"

namespace porter::server {
namespace {

using Json = nlohmann::json;

constexpr std::size_t kMostBody = 64 * 1024;
constexpr std::chrono::milliseconds kFollowEvery{200};
constexpr std::size_t kUsualLines = 40;

struct Reply {
  int status = 200;
  Json body;
  std::string text{};  ///< Where it is not empty, the body as it is sent.
};

Json json_of(const Settings& settings, const Site& site) {
  Json mounts = Json::array();
  for (const Mount& mount : site.mounts)
    mounts.push_back({{"path", text::to_utf8(mount.path)}, {"target", text::to_utf8(mount.target)}});
  Json addresses = Json::array();
  for (const Address& address : site.addresses.empty() ? settings.addresses : site.addresses)
    addresses.push_back(address.text());
  return {{"name", site.name},
          {"url", sites::url_of(settings, site, sites::main_address(settings, site)) + "/"},
          {"document_root", text::to_utf8(site.document_root)},
          {"hosts", site.hosts},
          {"addresses", addresses},
          {"mounts", mounts}};
}

Reply not_possible(int status, const std::string& sentence) {
  return {status,
          {{"problems",
            Json::array({{{"code", "bad-call"}, {"sentence", sentence}, {"remedy", ""}, {"text", sentence + "\n"}}})}}};
}

Reply refused(const std::vector<SettingsProblem>& problems) { return {409, {{"problems", json_of(problems)}}}; }

/// The value of `name` in the query, decoded; nullopt if it is not there.
std::optional<std::string> query_value(std::string_view query, std::string_view name) {
  while (!query.empty()) {
    const std::string_view pair = query.substr(0, query.find('&'));
    query.remove_prefix(std::min(pair.size() + 1, query.size()));
    const std::size_t equals = std::min(pair.find('='), pair.size());
    if (pair.substr(0, equals) == name) return http::percent_decode(pair.substr(std::min(equals + 1, pair.size())));
  }
  return std::nullopt;
}

std::string text_in(const Json& object, const char* key) {
  const auto found = object.find(key);
  return found != object.end() && found->is_string() ? found->get<std::string>() : "";
}

}  // namespace

/// One connection, which asks once.
class Control::Talk {
 public:
  Talk(Control& control, asio::local::stream_protocol::socket socket)
      : control_(control),
        steering_(control.steering_),
        socket_(std::move(socket)),
        pause_(steering_.server().context()) {
    control_.talks_.insert(this);
  }
  ~Talk() { control_.talks_.erase(this); }
  Talk(const Talk&) = delete;
  Talk& operator=(const Talk&) = delete;

  asio::awaitable<void> run() {
    const bool is_read = co_await read_request();
    if (!is_read) co_return;
    if (method_ == "GET" && path_ == "/v1/log") {
      co_await send_log();
      co_return;
    }
    Reply reply = co_await answer();
    const std::string body = (reply.text.empty() ? reply.body.dump(2) : reply.text) + "\n";
    const std::string head = fmt::format(
        "HTTP/1.1 {} {}\r\nContent-Type: application/json\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
        reply.status, http::reason_phrase(reply.status), body.size());
    const std::string whole = head + body;
    co_await asio::async_write(socket_, asio::buffer(whole), run::kAwait);
    if (stops_) steering_.server().stop();
  }
  void close() {
    boost::system::error_code ignored;
    socket_.close(ignored);
    pause_.cancel();
  }

 private:
  /// Reads one request. False: it cannot be read, and nobody waits for an answer to it.
  asio::awaitable<bool> read_request() {
    std::array<char, 8192> buffer{};
    std::size_t scanned = 0;
    std::optional<std::size_t> head_length;
    std::uint64_t length = 0;
    for (;;) {
      if (!head_length) {
        head_length = http::head_length(received_, scanned);
        scanned = received_.size();
        if (head_length && !read_head(*head_length, length)) co_return false;
      }
      if (head_length && received_.size() >= *head_length + length) break;
      if (received_.size() > kMostBody) co_return false;
      const auto [error, got] = co_await socket_.async_read_some(asio::buffer(buffer), run::kAwait);
      if (error) co_return false;
      received_.append(buffer.data(), got);
    }
    body_ = received_.substr(*head_length, length);
    co_return true;
  }

  bool read_head(std::size_t head_length, std::uint64_t& length) {
    const auto parsed = http::parse_head(std::string_view(received_).substr(0, head_length), {});
    const auto* const head = std::get_if<http::RequestHead>(&parsed);
    if (head == nullptr) return false;
    const auto framing = http::body_framing(*head);
    const auto* const body = std::get_if<http::BodyFraming>(&framing);
    if (body == nullptr || body->kind == http::BodyFraming::Kind::chunked || body->length > kMostBody) return false;
    length = body->length;
    method_ = head->method;
    path_ = head->target.substr(0, head->target.find('?'));
    query_ = head->target.substr(std::min(path_.size() + 1, head->target.size()));
    return true;
  }

  asio::awaitable<Reply> answer() {
    struct Route {
      std::string_view method;
      std::string_view path;
      asio::awaitable<Reply> (Talk::*call)();
    };
    static constexpr Route kRoutes[] = {
        {"GET", "/v1/status", &Talk::status},     {"POST", "/v1/stop", &Talk::stop},
        {"POST", "/v1/reload", &Talk::reload},    {"GET", "/v1/sites", &Talk::sites},
        {"POST", "/v1/sites", &Talk::add_site},   {"GET", "/v1/mounts", &Talk::mounts},
        {"POST", "/v1/mounts", &Talk::add_mount}, {"DELETE", "/v1/mounts", &Talk::remove_mount},
        {"POST", "/v1/explain", &Talk::explain},
    };
    constexpr std::string_view kSites = "/v1/sites/";
    auto(Talk::*call)()->asio::awaitable<Reply> = nullptr;
    if (method_ == "DELETE" && path_.starts_with(kSites)) call = &Talk::remove_site;
    bool is_known = false;
    for (const Route& route : kRoutes) {
      is_known = is_known || route.path == path_;
      if (route.path == path_ && route.method == method_) call = route.call;
    }
    if (call == nullptr)
      co_return is_known ? not_possible(405, "This call knows no such method.")
                         : not_possible(404, "There is no such call.");
    Reply reply = co_await (this->*call)();
    co_return reply;
  }

  /// Makes an answer of any size from a snapshot, away from the thread that accepts all connections.
  asio::awaitable<Reply> made_elsewhere(std::function<Json(const Snapshot&)> make) {
    auto making = steering_.server().shared().helpers.run(
        [snapshot = steering_.server().shared_snapshot(), make = std::move(make)] { return make(*snapshot).dump(2); });
    Reply reply;
    reply.text = co_await std::move(making);
    co_return reply;
  }

  static Json json_of_sites(const Snapshot& now) {
    Json all = Json::array();
    for (const Site& site : now.settings.sites) all.push_back(json_of(now.settings, site));
    return all;
  }

  asio::awaitable<Reply> status() {
    Server& server = steering_.server();
    const auto uptime =
        std::chrono::duration_cast<std::chrono::seconds>(std::chrono::system_clock::now() - server.begun());
    Json interpreters = Json::array();
    for (const machine::FoundInterpreter& found : server.interpreters())
      interpreters.push_back(
          {{"language", found.interpreter.language}, {"path", found.path}, {"version", found.version}});
    Json facts = {{"state", server.is_stopping() ? "stopping" : "running"},
                  {"version", PORTER_VERSION},
                  {"process", ::getpid()},
                  {"since", fmt::format("{:%Y-%m-%dT%H:%M:%SZ}",
                                        fmt::gmtime(std::chrono::system_clock::to_time_t(server.begun())))},
                  {"uptime_seconds", uptime.count()},
                  {"settings", text::to_utf8(steering_.instance().settings)},
                  {"log", text::to_utf8(steering_.instance().log)},
                  {"interpreters", std::move(interpreters)},
                  {"requests", server.requests_answered()},
                  {"connections", server.shared().connections.load(std::memory_order_relaxed)},
                  {"problems", json_of(steering_.standing_problems())}};
    auto reply = made_elsewhere([facts = std::move(facts)](const Snapshot& now) {
      Json out = facts;
      out["addresses"] = Json::array();
      for (const Listener& listener : now.listeners) {
        Json names = Json::array();
        for (const std::size_t index : listener.sites) names.push_back(now.settings.sites[index].name);
        out["addresses"].push_back({{"address", listener.address.text()}, {"sites", std::move(names)}});
      }
      out["access_log"] = text::to_utf8(now.settings.access_log.file);
      out["sites"] = json_of_sites(now);
      out["runs"] = {{"running", now.gate->running()}, {"most", now.gate->most_running()}};
      return out;
    });
    Reply made = co_await std::move(reply);
    co_return made;
  }

  asio::awaitable<Reply> stop() {
    stops_ = true;
    co_return Reply{202, {{"state", "stopping"}}};
  }

  asio::awaitable<Reply> reload() {
    const auto problems = co_await steering_.reload();
    if (!problems.empty()) co_return refused(problems);
    co_return Reply{200, {{"problems", Json::array()}}};
  }

  asio::awaitable<Reply> sites() {
    return made_elsewhere([](const Snapshot& now) { return Json{{"sites", json_of_sites(now)}}; });
  }

  asio::awaitable<Reply> mounts() {
    return made_elsewhere([](const Snapshot& now) {
      Json all = Json::array();
      for (const Site& site : now.settings.sites)
        for (const Mount& mount : site.mounts)
          all.push_back(
              {{"site", site.name}, {"path", text::to_utf8(mount.path)}, {"target", text::to_utf8(mount.target)}});
      return Json{{"mounts", std::move(all)}};
    });
  }

  /// The request's body as an object; a null value if it is none.
  Json body_object() const {
    Json body = Json::parse(body_, nullptr, false);
    return body.is_object() ? body : Json();
  }

  asio::awaitable<Reply> add_site() {
    const Json body = body_object();
    SettingsEdit edit;
    edit.kind = SettingsEdit::Kind::add_site;
    edit.site = text_in(body, "name");
    edit.folder = text_in(body, "folder");
    if (edit.site.empty() || !edit.folder.starts_with('/'))
      co_return not_possible(422, "A site needs a name and a folder, as an absolute path.");
    if (const auto hosts = body.find("hosts"); hosts != body.end() && hosts->is_array())
      for (const Json& host : *hosts)
        if (host.is_string()) edit.hosts.push_back(host.get<std::string>());
    if (const auto port = body.find("port"); port != body.end()) {
      if (!port->is_number_unsigned() || port->get<std::uint64_t>() < 1 || port->get<std::uint64_t>() > 65535)
        co_return not_possible(422, "A port is a number from 1 to 65535.");
      edit.port = port->get<std::uint16_t>();
    }
    Reply reply = co_await changed(edit, 201);
    co_return reply;
  }

  asio::awaitable<Reply> remove_site() {
    constexpr std::size_t kBefore = std::string_view("/v1/sites/").size();
    SettingsEdit edit;
    edit.kind = SettingsEdit::Kind::remove_site;
    edit.site = http::percent_decode(std::string_view(path_).substr(kBefore)).value_or("");
    Reply reply = co_await changed(edit, 200);
    co_return reply;
  }

  asio::awaitable<Reply> add_mount() {
    const Json body = body_object();
    SettingsEdit edit;
    edit.kind = SettingsEdit::Kind::add_mount;
    edit.site = text_in(body, "site");
    edit.path = text_in(body, "path");
    edit.folder = text_in(body, "target");
    if (edit.site.empty() || !edit.path.starts_with('/') || !edit.folder.starts_with('/'))
      co_return not_possible(
          422, "A mount needs a site, a path that begins with a slash, and a target, as an absolute path.");
    Reply reply = co_await changed(edit, 201);
    co_return reply;
  }

  asio::awaitable<Reply> remove_mount() {
    SettingsEdit edit;
    edit.kind = SettingsEdit::Kind::remove_mount;
    edit.site = query_value(query_, "site").value_or("");
    edit.path = query_value(query_, "path").value_or("");
    Reply reply = co_await changed(edit, 200);
    co_return reply;
  }

  asio::awaitable<Reply> changed(const SettingsEdit& edit, int status) {
    const auto problems = co_await steering_.edit(edit);
    if (!problems.empty()) co_return refused(problems);
    const Settings& settings = steering_.server().snapshot().settings;
    Reply reply{status, {{"problems", Json::array()}}};
    for (const Site& site : settings.sites)
      if (site.name == edit.site) reply.body["site"] = json_of(settings, site);
    co_return reply;
  }

  /// Looking a name up may take seconds, and this thread accepts all connections: so another one does it.
  asio::awaitable<Reply> explain() {
    const Json body = body_object();
    const std::string what = text_in(body, "what");
    const std::string folder = text_in(body, "folder");
    if (what.empty()) co_return not_possible(422, "What is to be explained is missing.");
    const auto snapshot = steering_.server().shared_snapshot();
    const machine::Standing standing{true, ::getpid(), machine::settings_option(steering_.instance().settings)};
    auto thinking = steering_.server().shared().helpers.run(
        [&] { return json_of(machine::explain(snapshot->settings, standing, what, folder)); });
    Reply reply;
    reply.text = co_await std::move(thinking);
    co_return reply;
  }

  asio::awaitable<void> send_log() {
    const bool follow = query_value(query_, "follow").value_or("") == "true";
    Journal::Filter filter;
    filter.site = query_value(query_, "site");
    filter.only_errors = query_value(query_, "errors").value_or("") == "true";
    std::size_t lines = kUsualLines;
    if (const auto wanted = query_value(query_, "lines")) {
      const auto [end, error] = std::from_chars(wanted->data(), wanted->data() + wanted->size(), lines);
      if (error != std::errc{} || end != wanted->data() + wanted->size()) lines = kUsualLines;
    }
    std::string out = "HTTP/1.1 200 OK\r\nContent-Type: application/x-ndjson\r\nConnection: close\r\n\r\n";
    std::uint64_t next = 0;
    for (;;) {
      Journal& journal = *steering_.server().shared().journal;
      const auto kept = journal.kept_lines(next, lines, filter);
      next = kept.next;
      for (const Journal::Kept& line : kept.lines) {
        Json row = {{"text", text::to_utf8(line.text)}};
        if (!line.site.empty()) row["site"] = line.site;
        if (line.status >= 0) row["status"] = line.status;
        out += row.dump() + "\n";
      }
      const auto [error, sent] = co_await asio::async_write(socket_, asio::buffer(out), run::kAwait);
      if (error || !follow || steering_.server().is_stopping()) co_return;
      out.clear();
      lines = SIZE_MAX;
      pause_.expires_after(kFollowEvery);
      co_await pause_.async_wait(run::kAwait);
      if (!socket_.is_open() || client_has_left()) co_return;
    }
  }

  /// Nothing more is sent by a client that waits, so whatever can be read is the end.
  bool client_has_left() {
    char byte = 0;
    return ::recv(socket_.native_handle(), &byte, 1, MSG_PEEK | MSG_DONTWAIT) == 0;
  }

  Control& control_;
  Steering& steering_;
  asio::local::stream_protocol::socket socket_;
  asio::steady_timer pause_;
  std::string received_;
  std::string method_;
  std::string body_;
  std::string path_;
  std::string query_;
  bool stops_ = false;
};

Control::Control(Steering& steering) : steering_(steering), acceptor_(steering.server().context()) {}
Control::~Control() { close(); }

std::optional<std::string> Control::open() {
  const std::string& path = steering_.instance().socket;
  // The lock is held, so a socket in this place was left behind.
  ::unlink(path.c_str());
  boost::system::error_code error;
  acceptor_.open(asio::local::stream_protocol(), error);
  const mode_t before = ::umask(0177);
  if (!error) acceptor_.bind(asio::local::stream_protocol::endpoint(path), error);
  ::umask(before);
  if (!error) acceptor_.listen(64, error);
  if (error)
    return "The control socket " + text::escape_line(path) + " cannot be opened: " + files::describe({error.value()}) +
           ".";
  asio::co_spawn(steering_.server().context(), accept(), asio::detached);
  return std::nullopt;
}

void Control::close() {
  if (!acceptor_.is_open()) return;
  boost::system::error_code ignored;
  acceptor_.close(ignored);
  ::unlink(steering_.instance().socket.c_str());
  for (Talk* const talk : talks_) talk->close();
}

asio::awaitable<void> Control::accept() {
  while (acceptor_.is_open()) {
    auto [error, socket] = co_await acceptor_.async_accept(run::kAwait);
    if (error == asio::error::operation_aborted) co_return;
    if (error) {
      asio::steady_timer pause(steering_.server().context(), kFollowEvery);
      co_await pause.async_wait(run::kAwait);
      continue;
    }
    // The mode of the socket keeps others out; asking once more costs nothing.
    ucred peer{};
    socklen_t length = sizeof peer;
    const bool is_known = ::getsockopt(socket.native_handle(), SOL_SOCKET, SO_PEERCRED, &peer, &length) == 0;
    if (!is_known || (peer.uid != ::getuid() && peer.uid != 0)) continue;
    auto talk = std::make_shared<Talk>(*this, std::move(socket));
    asio::co_spawn(
        steering_.server().context(), [talk]() { return talk->run(); }, [talk](const std::exception_ptr&) {});
  }
}

}  // namespace porter::server
