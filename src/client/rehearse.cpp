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
#include <cstdlib>
#include <fstream>
#include <iostream>
#include <iterator>
#include <nlohmann/json.hpp>

#include "client/serve.hpp"
#include "core/files/beneath.hpp"
#include "core/http/host.hpp"
#include "core/http/status.hpp"
#include "core/script/meta_variables.hpp"
#include "core/text/text.hpp"
#include "run/environment.hpp"
#include "run/script_run.hpp"

namespace porter::client {

namespace asio = boost::asio;

namespace {

int fail(const std::string& sentence) {
  std::fputs((sentence + "\n").c_str(), stderr);
  return kBadUse;
}

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
  std::ifstream file(source, std::ios::binary);
  if (!file) return std::nullopt;
  return std::string(std::istreambuf_iterator<char>(file), {});
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

Rehearsed rehearse(const Settings& settings, const sites::ScriptFound& script, Request& request,
                   const RehearseOptions& options) {
  Rehearsed out;
  out.command = run::command_by_hand(script);
  const auto host = http::parse_host(options.host);
  const script::Peer peer{"127.0.0.1", 50000, host && host->port ? *host->port : std::uint16_t{80},
                          host ? host->name : "localhost"};
  std::optional<std::uint64_t> length;
  if (request.has_body) length = request.body.size();
  run::ScriptOrder order;
  order.script = script;
  order.runner = run::runner_name(script);
  order.document_root = settings.site.document_root;
  order.method = std::string(request.head.method);
  order.query = request.target.query;
  order.environment =
      script::meta_variables(script, settings.site, request.head, request.target, peer, length, run::passed_on());
  out.environment = order.environment;
  if (request.has_body) {
    order.input = run::InputKind::file;
    order.input_file = file_with(request.body);
    order.input_length = request.body.size();
  }
  order.limits = settings.limits;
  asio::io_context context(1);
  run::RunSet runs;
  auto started = run::ScriptRun::start(context.get_executor(), runs, std::move(order));
  if (auto* const finding = std::get_if<Finding>(&started)) {
    out.status = status_of(finding->code);
    out.findings.push_back(std::move(*finding));
    return out;
  }
  asio::co_spawn(context,
                 run_script(std::string(request.head.method), std::get<std::shared_ptr<run::ScriptRun>>(started), out),
                 [](const std::exception_ptr& error) {
                   if (error) std::rethrow_exception(error);
                 });
  context.run();
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
  out["findings"] = nlohmann::json::array();
  for (const Finding& finding : result.findings)
    out["findings"].push_back({{"code", code_name(finding.code)},
                               {"sentence", text::to_utf8(sentence_of(finding))},
                               {"remedy", text::to_utf8(remedy_of(finding))}});
  fmt::print("{}\n", out.dump(2));
}

}  // namespace

CLI::App* add_rehearse(CLI::App& app, RehearseOptions& options) {
  CLI::App* const command =
      app.add_subcommand("rehearse", "Run a script as the server would, without a server, and show what it did");
  command->add_option("SCRIPT", options.script, "The script's path, or its URL")->required();
  command->add_option("--root", options.root,
                      "The document root; else the folder that its cgi-bin lies in, or its own");
  command->add_option("--query", options.query, "The query, as it would stand in the URL");
  command->add_option("--method", options.method, "The method; GET, or POST if there is a body");
  command->add_option("--body", options.body, "A file to be sent as the body; - for standard input");
  command->add_option("--type", options.type, "The body's Content-Type; that of a form if none is named");
  command->add_option("--header", options.headers, "A further header, \"Name: value\"; may be given several times");
  command->add_option("--path-info", options.path_info, "What follows the script in the path, with its slash");
  command->add_option("--host", options.host, "The Host field; localhost:8080 if none is named");
  command->add_flag("--environment", options.show_environment, "Show the environment that it is given");
  command->add_flag("--body-only", options.body_only, "Print its page alone, for pipes");
  command->add_flag("--json", options.json, "Print JSON");
  return command;
}

int run_rehearse(const RehearseOptions& given) {
  RehearseOptions options = given;
  std::string url_path;
  std::string root = options.root.empty() ? "" : options.root;
  if (options.script.starts_with("http://")) {
    auto parsed = http::parse_target(options.script, "GET");
    if (std::holds_alternative<http::TargetError>(parsed))
      return fail(fmt::format("{} is no URL that could be asked for.", text::escape_line(options.script)));
    auto& target = std::get<http::Target>(parsed);
    options.host = *target.authority;
    url_path = target.raw_path;
    if (options.query.empty()) options.query = target.query;
    if (root.empty()) root = ".";
  }
  std::array<char, PATH_MAX> real{};
  if (url_path.empty()) {
    // The last part stays as it is written, since a link's own name may decide how it is run.
    const std::size_t slash = options.script.rfind('/');
    const std::string folder = slash == std::string::npos ? "." : options.script.substr(0, slash + 1);
    struct stat info {};
    if (::stat(options.script.c_str(), &info) != 0 || ::realpath(folder.c_str(), real.data()) == nullptr)
      return fail(fmt::format("There is no script {}.", text::escape_line(options.script)));
    const std::string path = std::string(real.data()) + "/" + options.script.substr(slash + 1);
    if (root.empty()) root = root_for(path);
    if (::realpath(root.c_str(), real.data()) == nullptr || !path.starts_with(std::string(real.data()) + "/"))
      return fail(fmt::format("{} does not lie below the document root {}. Name the right one: --root FOLDER",
                              text::escape_line(path), text::escape_line(root)));
    url_path = http::percent_encode_path(path.substr(std::string(real.data()).size()));
  } else if (::realpath(root.c_str(), real.data()) == nullptr) {
    return fail(fmt::format("There is no folder {}.", text::escape_line(root)));
  }
  Settings settings;
  settings.site.name = "rehearsal";
  settings.site.document_root = real.data();
  settings.search_path = run::search_path();
  url_path += http::percent_encode_path(options.path_info);
  Request request;
  if (const auto problem = compose(options, url_path, request)) return fail(*problem);
  auto resolution = sites::resolve(settings, settings.site, {request.head.method, request.target});
  Rehearsed result;
  if (auto* const finding = std::get_if<Finding>(&resolution.outcome)) {
    result.command = "(nothing is run)";
    result.status = status_of(finding->code);
    result.findings.push_back(std::move(*finding));
  } else if (auto* const script = std::get_if<sites::ScriptFound>(&resolution.outcome)) {
    result = rehearse(settings, *script, request, options);
  } else {
    return fail(fmt::format("{} is not run but shown as it is: it is no script, and lies in no script folder.",
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
