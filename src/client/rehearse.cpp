// A rehearsal: the request is put together as a browser would send it, resolved and run by the very code of the server,
// and told in full.
#include "client/rehearse.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/io_context.hpp>
#include <climits>
#include <cstdio>
#include <iostream>
#include <iterator>
#include <nlohmann/json.hpp>

#include "client/output.hpp"
#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/findings/finding_json.hpp"
#include "core/http/host.hpp"
#include "core/http/status.hpp"
#include "core/script/meta_variables.hpp"
#include "core/settings/read_settings.hpp"
#include "core/sites/choose.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/instance.hpp"
#include "run/kin.hpp"
#include "run/script_run.hpp"

namespace porter::client {

namespace asio = boost::asio;

namespace {

int bad_use(const std::string& sentence) { return fail(sentence, kBadUse); }

/// What a rehearsal came to.
struct Rehearsed {
  std::string command;
  std::vector<std::string> environment;
  int status = 500;
  std::string reason;
  std::vector<std::pair<std::string, std::string>> fields;
  std::string body;
  std::string error_text;
  std::optional<run::RunEnd> end;
  std::vector<Finding> findings;
};

/// The document root for a script on disk: the nearest folder above its script folder, else its own folder.
std::string root_for(const std::string& path) {
  const std::string mark = "/cgi-bin/";
  const std::size_t at = path.find(mark);
  return at == path.npos || at == 0 ? path.substr(0, path.rfind('/')) : path.substr(0, at);
}

/// The request in the form in which it would come over the wire, and what it asks for.
struct Request {
  std::string bytes;
  http::RequestHead head;  ///< Points into `bytes`.
  http::Target target;
  std::string body;
  bool has_body = false;
};

std::optional<std::string> read_body(const std::string& source) {
  if (source == "-") return std::string(std::istreambuf_iterator<char>(std::cin), {});
  return files::content_of(source);
}

/// Puts the request together; a sentence if that cannot be done.
std::optional<std::string> compose(const RehearseOptions& options, const std::string& path, Request& request) {
  request.has_body = !options.body.empty();
  if (request.has_body) {
    auto body = read_body(options.body);
    if (!body) return fmt::format("The file {} for --body cannot be read.", options.body);
    request.body = std::move(*body);
  }
  const std::string method = !options.method.empty() ? options.method : request.has_body ? "POST" : "GET";
  std::string target = path;
  if (!options.query.empty()) target += "?" + options.query;
  request.bytes = method + " " + target + " HTTP/1.1\r\nHost: " + options.host +
                  "\r\nUser-Agent: uporter/" PORTER_VERSION "\r\nAccept: */*\r\n";
  std::string type = options.type;
  if (request.has_body && type.empty()) type = "application/x-www-form-urlencoded";
  if (!type.empty()) request.bytes += "Content-Type: " + type + "\r\n";
  if (request.has_body) request.bytes += "Content-Length: " + std::to_string(request.body.size()) + "\r\n";
  for (const std::string& header : options.headers) request.bytes += header + "\r\n";
  request.bytes += "\r\n";
  auto head = http::parse_head(request.bytes, {});
  if (std::holds_alternative<http::HeadProblem>(head))
    return fmt::format(
        "The request that these options describe is none: a header is \"Name: value\", and a query has its "
        "spaces written as %20 (it would begin: {}).",
        text::escape_line(request.bytes.substr(0, 80)));
  request.head = std::move(std::get<http::RequestHead>(head));
  auto parsed = http::parse_target(request.head.target, request.head.method);
  if (const auto* const error = std::get_if<http::TargetError>(&parsed))
    return fmt::format("The request target {}: {}", http::describe(*error), text::escape_line(target));
  request.target = std::move(std::get<http::Target>(parsed));
  return std::nullopt;
}

/// An open, unnamed file with `content` to be read from its start.
files::Descriptor file_with(const std::string& content) {
  std::FILE* const file = std::tmpfile();
  if (file == nullptr) return files::Descriptor();
  std::fwrite(content.data(), 1, content.size(), file);
  std::rewind(file);
  files::Descriptor out(::fcntl(::fileno(file), F_DUPFD_CLOEXEC, 3));
  std::fclose(file);
  return out;
}

asio::awaitable<void> run_script(std::string method, std::shared_ptr<run::ScriptRun> run, Rehearsed& out) {
  const bool has_head = co_await run->read_head();
  if (has_head) {
    out.status = run->head().status;
    out.reason = run->head().reason;
    out.fields = run->head().fields;
    if (http::has_no_body(out.status)) run->expect_no_body();
    for (;;) {
      const std::string_view piece = co_await run->read_page();
      if (piece.empty()) break;
      out.body += piece;
    }
  }
  auto finding = co_await run->judge();
  if (finding) {
    if (!has_head || run->has_no_page_for(*finding)) out.status = status_of(finding->code);
    out.findings.push_back(std::move(*finding));
  }
  out.error_text = run->report().error_text;
  out.end = run->end();
  if (method == "HEAD") out.body.clear();
}

Rehearsed rehearse(const Settings& settings, const Site& site, const sites::ScriptFound& script, Request& request,
                   const RehearseOptions& options) {
  Rehearsed out;
  out.command = run::command_by_hand(script);
  const auto host = http::parse_host(options.host);
  const script::Peer peer{"127.0.0.1", 50000, host && host->port ? *host->port : std::uint16_t{80},
                          host ? host->name : "localhost"};
  std::optional<std::uint64_t> length;
  if (request.has_body) length = request.body.size();
  const run::Runner runner = run::runner_of(script);
  run::ScriptOrder order{.script = script, .runner = runner};
  order.document_root = site.document_root;
  order.method = request.head.method;
  order.query = request.target.query;
  order.environment =
      script::meta_variables(script, site, request.head, request.target, peer, length, machine::passed_on());
  out.environment = order.environment.list();
  if (request.has_body) {
    order.input = run::InputKind::file;
    order.input_file = file_with(request.body);
    order.input_length = request.body.size();
  }
  order.limits = settings.limits;
  // What the script starts ends with the rehearsal, as it ends with a request.
  run::hold_kin();
  asio::io_context context(1);
  run::RunSet runs(context.get_executor());
  auto started = run::ScriptRun::start(context.get_executor(), runs, std::move(order));
  if (auto* const finding = std::get_if<Finding>(&started)) {
    out.status = status_of(finding->code);
    out.findings.push_back(std::move(*finding));
    return out;
  }
  asio::co_spawn(context,
                 run_script(std::string(request.head.method), std::get<std::shared_ptr<run::ScriptRun>>(started), out),
                 [&context](const std::exception_ptr& error) {
                   context.stop();
                   if (error) std::rethrow_exception(error);
                 });
  context.run();
  run::end_all_kin();
  return out;
}

void print_text(const Rehearsed& result, const RehearseOptions& options) {
  fmt::print("Command      {}\n", text::escape_line(result.command));
  if (options.show_environment) {
    fmt::print("Environment\n");
    for (const std::string& variable : result.environment) fmt::print("  {}\n", text::escape_line(variable));
  }
  fmt::print("Answer       {} {}\n", result.status,
             result.reason.empty() ? http::reason_phrase(result.status) : result.reason);
  for (const auto& [name, value] : result.fields) fmt::print("  {}: {}\n", name, text::escape_line(value));
  if (!result.body.empty())
    fmt::print("Page         {}\n{}{}", text::format_size(result.body.size()), result.body,
               result.body.ends_with('\n') ? "" : "\n");
  if (!result.error_text.empty()) {
    fmt::print("Error stream\n");
    for (const std::string& line : script::last_lines(result.error_text, 40))
      fmt::print("  {}\n", text::escape_line(line));
  }
  if (result.end) {
    const std::string how = result.end->signal != 0 ? "ended by " + script::signal_name(result.end->signal)
                                                    : fmt::format("exit status {}", result.end->exit_status);
    fmt::print("Run          {}, {} ms, {} at most\n", how, result.end->duration.count(),
               text::format_size(static_cast<std::uint64_t>(result.end->peak_memory_kib) * 1024));
  }
  for (const Finding& finding : result.findings)
    fmt::print("Finding      {}: {}\n             {}\n", code_name(finding.code),
               text::escape_line(sentence_of(finding)), text::escape_line(remedy_of(finding)));
}

void print_json(const Rehearsed& result, const RehearseOptions& options) {
  nlohmann::json out = {{"command", text::to_utf8(result.command)},
                        {"status", result.status},
                        {"body", text::to_utf8(result.body)},
                        {"error_stream", text::to_utf8(result.error_text)}};
  for (const auto& [name, value] : result.fields)
    out["fields"].push_back({{"name", name}, {"value", text::to_utf8(value)}});
  if (options.show_environment)
    for (const std::string& variable : result.environment) out["environment"].push_back(text::to_utf8(variable));
  if (result.end)
    out["run"] = {{"exit_status", result.end->exit_status},
                  {"signal", result.end->signal},
                  {"milliseconds", result.end->duration.count()},
                  {"peak_memory_kib", result.end->peak_memory_kib}};
  out["findings"] = json_of(result.findings);
  fmt::print("{}\n", out.dump(2));
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
  settings.search_path = machine::search_path();
  return settings;
}

/// Finds the site that shows the file at `path`; false if none does.
bool find_site_of(const std::string& path, Place& place) {
  for (std::size_t i = 0; i < place.settings.sites.size(); ++i) {
    const Site& site = place.settings.sites[i];
    std::vector<std::pair<std::string, std::string>> roots = {{site.document_root, ""}};
    for (const Mount& mount : site.mounts) roots.emplace_back(mount.target, mount.path);
    for (const auto& [root, prefix] : roots) {
      if (path != root && !path.starts_with(root + "/")) continue;
      place.site = i;
      place.url_path = http::percent_encode_path(prefix + path.substr(root.size()));
      return true;
    }
  }
  return false;
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

/// Reads a URL: its host and query become options. A sentence if it cannot be asked for.
std::optional<std::string> place_of_url(RehearseOptions& options, Place& place) {
  auto parsed = http::parse_target(options.script, "GET");
  if (std::holds_alternative<http::TargetError>(parsed))
    return fmt::format("{} is no URL that could be asked for.", text::escape_line(options.script));
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
  if (options.root.empty() && find_site_of(path, place)) return std::nullopt;
  const std::string root = options.root.empty() ? root_for(path) : options.root;
  if (::realpath(root.c_str(), real.data()) == nullptr || !path.starts_with(std::string(real.data()) + "/"))
    return fmt::format("{} does not lie below the document root {}. Name the right one: --root FOLDER",
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
  const auto misplaced =
      options.script.starts_with("http://") ? place_of_url(options, place) : place_of_file(options, place);
  if (misplaced) return bad_use(*misplaced);
  const Settings& settings = place.settings;
  const Site& site = settings.sites[place.site];
  place.url_path += http::percent_encode_path(options.path_info);
  Request request;
  if (const auto problem = compose(options, place.url_path, request)) return bad_use(*problem);
  auto resolution = sites::resolve(settings, site, {request.head.method, request.target});
  Rehearsed result;
  if (auto* const finding = std::get_if<Finding>(&resolution.outcome)) {
    result.command = "(nothing is run)";
    result.status = status_of(finding->code);
    result.findings.push_back(std::move(*finding));
  } else if (auto* const script = std::get_if<sites::ScriptFound>(&resolution.outcome)) {
    result = rehearse(settings, site, *script, request, options);
  } else {
    return bad_use(fmt::format("{} is not run but shown as it is: it is no script, and lies in no script folder.",
                               text::escape_line(given.script)));
  }
  if (options.body_only) {
    std::fwrite(result.body.data(), 1, result.body.size(), stdout);
    for (const Finding& finding : result.findings)
      std::fprintf(stderr, "%s: %s\n", std::string(code_name(finding.code)).c_str(), sentence_of(finding).c_str());
  } else if (options.json) {
    print_json(result, options);
  } else {
    print_text(result, options);
  }
  return result.status < 400 ? 0 : 1;
}

}  // namespace porter::client
