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
#include <charconv>
#include <climits>
#include <cstdio>
#include <iostream>
#include <iterator>

#include "client/output.hpp"
#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/findings/finding_json.hpp"
#include "core/http/findings.hpp"
#include "core/http/host.hpp"
#include "core/http/media_type.hpp"
#include "core/http/status.hpp"
#include "core/script/script_head.hpp"
#include "core/settings/read_settings.hpp"
#include "core/sites/choose.hpp"
#include "core/sites/places.hpp"
#include "core/sites/route.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/instance.hpp"
#include "machine/packages.hpp"
#include "run/kin.hpp"
#include "run/script_order.hpp"
#include "run/script_run.hpp"

namespace porter::client {

namespace asio = boost::asio;

namespace {

int bad_use(const std::string& sentence) { return fail(sentence, kBadUse); }

/// What a rehearsal came to.
struct Rehearsed {
  std::string command = "(nothing is run)";
  std::vector<std::string> environment;
  std::vector<std::string> redirected_to;  ///< Paths of the site that scripts have asked for in their own place.
  int status = 500;
  std::string reason;
  std::vector<std::pair<std::string, std::string>> fields;
  std::string body;
  std::string printed;  ///< Of a page that is not shown, since the script failed after it.
  std::string error_text;
  std::optional<run::ProcessEnd> end;
  std::vector<Finding> findings;

  void fail_by(Finding finding) {
    status = status_of(finding.code);
    findings.push_back(std::move(finding));
  }
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

/// One request, from its route to the answer, by way of as many scripts as it takes.
class Rehearsal {
 public:
  Rehearsal(const sites::Surroundings& in, const Site& site, const RehearseOptions& options, Request& request)
      : in_(in), site_(site), options_(options), request_(request), runs_(context_.get_executor()) {}

  /// False: it leads to something that is not run, and there is nothing to be rehearsed.
  bool run(Rehearsed& out) {
    auto outcome = route();
    const bool leads_to_script =
        std::holds_alternative<sites::ScriptFound>(outcome) || std::holds_alternative<Finding>(outcome);
    if (leads_to_script) follow(std::move(outcome), out);
    if (request_.head.method == "HEAD") out.body.clear();
    return leads_to_script;
  }

 private:
  sites::Outcome route() const {
    return sites::route_within(in_, site_, {request_.head.method, request_.target}).outcome;
  }

  void follow(sites::Outcome outcome, Rehearsed& out) {
    while (const auto* const script = std::get_if<sites::ScriptFound>(&outcome)) {
      const auto location = run_script(*script, out);
      if (!location) return;
      auto next = redirect_to(*location, out);
      if (!next) return;
      outcome = std::move(*next);
    }
    if (auto* const finding = std::get_if<Finding>(&outcome)) return out.fail_by(std::move(*finding));
    show(outcome, out);
  }

  /// Goes on with another path of the site, as the server does (RFC 3875, section 6.2.2); nullopt: that is no more to
  /// be done.
  std::optional<sites::Outcome> redirect_to(const std::string& location, Rehearsed& out) {
    out.redirected_to.push_back(location);
    if (out.redirected_to.size() > run::kMostLocalRedirects) {
      out.fail_by(run::too_many_redirects(location));
      return std::nullopt;
    }
    auto target = http::parse_target(location, "GET");
    if (const auto* const error = std::get_if<http::TargetError>(&target)) {
      out.fail_by(http::finding_of(*error));
      return std::nullopt;
    }
    request_.target = std::move(std::get<http::Target>(target));
    if (request_.head.method != "HEAD") request_.head.method = "GET";
    request_.has_body = false;
    return route();
  }

  /// Shows what a local redirect has led to, other than a script.
  void show(const sites::Outcome& outcome, Rehearsed& out) const {
    out.fields.clear();
    if (const auto* const redirect = std::get_if<sites::Redirect>(&outcome)) {
      out.status = redirect->status;
      out.fields = {{"Location", redirect->location}};
      return;
    }
    out.status = 200;
    if (const auto* const file = std::get_if<sites::FileFound>(&outcome)) {
      const auto types = http::parse_type_list(files::content_of("/etc/mime.types").value_or(""));
      out.fields = {{"Content-Type", http::media_type(files::base_name(file->path), in_.settings.media_types, types)}};
      out.body = files::content_of(file->path).value_or("");
    } else {
      out.fields = {{"Content-Type", "text/html; charset=utf-8"}};
      out.body = "(a page of the server's own)\n";
    }
  }

  /// Runs one script. The path that it has answered with in its own place; nullopt: it has answered itself.
  std::optional<std::string> run_script(const sites::ScriptFound& script, Rehearsed& out) {
    out.command = run::command_by_hand(script);
    const auto host = http::parse_host(options_.host);
    const run::Runner runner = run::runner_of(script);
    const run::ScriptRequest asked{script,
                                   runner,
                                   site_,
                                   request_.head,
                                   request_.target,
                                   run::caller_of("127.0.0.1", 50000, "127.0.0.1", host ? host->port.value_or(80) : 80,
                                                  host ? host->name : "localhost"),
                                   passed_on_,
                                   0,
                                   true};
    run::ScriptInput input;
    if (request_.has_body) input = {run::InputKind::file, file_with(request_.body), request_.body.size()};
    auto order = run::order_script(asked, std::move(input), in_.settings.limits);
    out.environment = order.run.environment.list();
    auto started = run::ScriptRun::start(context_.get_executor(), runs_, std::move(order));
    if (auto* const finding = std::get_if<Finding>(&started)) {
      out.fail_by(std::move(*finding));
      return std::nullopt;
    }
    const auto run = std::get<std::shared_ptr<run::ScriptRun>>(started);
    std::optional<std::string> location;
    context_.restart();
    asio::co_spawn(context_, take_answer(run, out, location), [this](const std::exception_ptr& error) {
      context_.stop();
      if (error) std::rethrow_exception(error);
    });
    context_.run();
    return location;
  }

  asio::awaitable<void> take_answer(std::shared_ptr<run::ScriptRun> run, Rehearsed& out,
                                    std::optional<std::string>& location) {
    auto verdict = co_await run->verdict();
    std::optional<Finding> finding;
    if (auto* const none = std::get_if<run::ScriptRun::NoPage>(&verdict)) {
      if (none->finding) {
        auto asking = machine::with_package(runs_, in_.search_path, std::move(*none->finding));
        Finding found = co_await std::move(asking);
        out.fail_by(std::move(found));
      }
      if (run->report().head) out.printed = run->gathered();
    } else if (auto* const redirect = std::get_if<run::ScriptRun::LocalRedirect>(&verdict)) {
      location = std::move(redirect->location);
      finding = co_await run->judge();
    } else {
      auto* const page = std::get_if<run::ScriptRun::Page>(&verdict);
      if (page != nullptr) {
        out.status = run->head().status;
        out.reason = run->head().reason;
        out.fields = run->head().fields;
      }
      for (;;) {
        if (page != nullptr && page->is_whole && run->gathered().empty()) break;
        const std::string_view piece = co_await run->read_page();
        if (piece.empty()) break;
        if (page == nullptr || run->sends_body()) out.body += piece;
      }
      if (page != nullptr && page->is_whole) {
        finding = std::move(page->finding);
      } else {
        finding = co_await run->judge();
      }
      // What it has sent is the client's to judge.
      if (page == nullptr) finding.reset();
      if (page == nullptr) read_direct_head(out);
    }
    if (finding && !location) out.findings.push_back(std::move(*finding));
    out.error_text += run->report().error_text;
    out.end = run->end();
  }

  /// Takes the head off what a program has sent to the client directly, as the client would.
  static void read_direct_head(Rehearsed& out) {
    const auto length = script::script_head_length(out.body);
    std::size_t at = 0;
    for (bool is_first = true; length && at < *length; is_first = false) {
      const std::size_t end = out.body.find('\n', at);
      std::string_view line = std::string_view(out.body).substr(at, end - at);
      if (line.ends_with('\r')) line.remove_suffix(1);
      at = end + 1;
      const std::size_t colon = line.find(':');
      if (is_first) {
        read_status_line(line, out);
      } else if (colon != line.npos) {
        out.fields.emplace_back(line.substr(0, colon), http::trim(line.substr(colon + 1)));
      }
    }
    if (length) out.body.erase(0, *length);
  }

  static void read_status_line(std::string_view line, Rehearsed& out) {
    const std::size_t space = line.find(' ');
    if (!line.starts_with("HTTP/1.") || space == line.npos) return;
    std::from_chars(line.data() + space + 1, line.data() + line.size(), out.status);
    const std::size_t reason = line.find(' ', space + 1);
    if (reason != line.npos) out.reason = line.substr(reason + 1);
  }

  const sites::Surroundings& in_;
  const Site& site_;
  const RehearseOptions& options_;
  Request& request_;
  const std::vector<std::string> passed_on_ = machine::passed_on();
  asio::io_context context_{1};
  run::RunSet runs_;
};

void print_text(const Rehearsed& result, const RehearseOptions& options) {
  fmt::print("Command      {}\n", text::escape_line(result.command));
  if (options.show_environment) {
    fmt::print("Environment\n");
    for (const std::string& variable : result.environment) fmt::print("  {}\n", text::escape_line(variable));
  }
  for (const std::string& path : result.redirected_to) fmt::print("Goes on at   {}\n", text::escape_line(path));
  fmt::print("Answer       {} {}\n", result.status,
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
  for (const std::string& path : result.redirected_to) out["redirected_to"].push_back(text::to_utf8(path));
  if (result.end) {
    auto& run =
        out["run"] = {{"milliseconds", result.end->duration.count()}, {"peak_memory_kib", result.end->peak_memory_kib}};
    if (result.end->exit_status) run["exit_status"] = *result.end->exit_status;
    if (result.end->signal) run["signal"] = *result.end->signal;
  }
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
  const std::string search_path = machine::search_path();
  const sites::Surroundings in{settings, search_path};
  // What the script starts ends with the rehearsal, as it ends with a request.
  run::hold_kin();
  Rehearsed result;
  const bool is_run = Rehearsal(in, site, options, request).run(result);
  run::end_all_kin();
  if (!is_run)
    return bad_use(
        fmt::format("{} is not run but shown as it is: it is not a script, and does not lie in a script folder.",
                    text::escape_line(given.script)));
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
