// See rehearsal.hpp.
#include "machine/rehearsal.hpp"

#include <fmt/format.h>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/post.hpp>
#include <charconv>

#include "core/exchange/base64.hpp"
#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/findings/finding_json.hpp"
#include "core/http/findings.hpp"
#include "core/http/host.hpp"
#include "core/http/media_type.hpp"
#include "core/script/script_head.hpp"
#include "core/sites/route.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"
#include "machine/packages.hpp"
#include "run/start.hpp"

namespace porter::machine {

namespace asio = boost::asio;

namespace {

void read_status_line(std::string_view line, Rehearsed& out) {
  const std::size_t space = line.find(' ');
  if (!line.starts_with("HTTP/1.") || space == line.npos) return;
  std::from_chars(line.data() + space + 1, line.data() + line.size(), out.status);
  const std::size_t reason = line.find(' ', space + 1);
  if (reason != line.npos) out.reason = line.substr(reason + 1);
}

/// Whoever rehearses waits for nothing, and stays.
class RehearsalAsker : public run::Asker {
 public:
  RehearsalAsker(asio::any_io_executor executor, run::RunSet& runs) : executor_(std::move(executor)), runs_(runs) {}

  asio::any_io_executor executor() override { return executor_; }
  run::RunSet& runs() override { return runs_; }
  std::chrono::seconds patience() const override { return std::chrono::seconds(1); }
  bool has_left() override { return false; }
  void when_left(std::function<void()>) override {}
  bool make_room() override { return false; }

 private:
  asio::any_io_executor executor_;
  run::RunSet& runs_;
};

/// Takes the head off what a program has sent to the client directly, as the client would.
void read_direct_head(Rehearsed& out) {
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

}  // namespace

std::optional<std::string> compose(const RehearsalOrder& order, RehearsedRequest& request) {
  request.has_body = order.body.has_value();
  request.body = order.body.value_or("");
  const std::string method = !order.method.empty() ? order.method : request.has_body ? "POST" : "GET";
  std::string target = order.path;
  if (!order.query.empty()) target += "?" + order.query;
  request.bytes = method + " " + target + " HTTP/1.1\r\nHost: " + order.host +
                  "\r\nUser-Agent: uporter/" PORTER_VERSION "\r\nAccept: */*\r\n";
  std::string type = order.type;
  if (request.has_body && type.empty()) type = "application/x-www-form-urlencoded";
  if (!type.empty()) request.bytes += "Content-Type: " + type + "\r\n";
  if (request.has_body) request.bytes += "Content-Length: " + std::to_string(request.body.size()) + "\r\n";
  for (const std::string& header : order.headers) request.bytes += header + "\r\n";
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

bool Rehearsal::run(Rehearsed& out) {
  auto outcome = route();
  const bool leads_to_script =
      std::holds_alternative<sites::ScriptFound>(outcome) || std::holds_alternative<Finding>(outcome);
  if (leads_to_script) follow(std::move(outcome), out);
  if (request_.head.method == "HEAD") out.body.clear();
  return leads_to_script;
}

void Rehearsal::stop() {
  asio::post(context_, [this] { runs_.terminate_all(); });
}

sites::Outcome Rehearsal::route() const {
  return sites::route_within(in_, site_, {request_.head.method, request_.target}).outcome;
}

void Rehearsal::follow(sites::Outcome outcome, Rehearsed& out) {
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
std::optional<sites::Outcome> Rehearsal::redirect_to(const std::string& location, Rehearsed& out) {
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
void Rehearsal::show(const sites::Outcome& outcome, Rehearsed& out) const {
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
std::optional<std::string> Rehearsal::run_script(const sites::ScriptFound& script, Rehearsed& out) {
  out.script = script.path;
  out.command = run::command_by_hand(script);
  const auto host = http::parse_host(host_);
  const run::Runner runner = run::runner_of(script);
  const run::ScriptRequest asked{script,
                                 runner,
                                 site_,
                                 request_.head,
                                 request_.target,
                                 run::caller_of("127.0.0.1", 50000, "127.0.0.1", host ? host->port.value_or(80) : 80,
                                                host ? host->name : "localhost"),
                                 supplies_,
                                 0,
                                 true};
  run::ScriptInput input;
  if (request_.has_body) input = {run::InputKind::file, files::unnamed_file(request_.body), request_.body.size()};
  // A process of its own says all that a pooled one would, and how it ends besides. Programs of others may be where
  // there is no such program here.
  const bool is_external = run::is_persistent(asked) && !script.rule->persistence.external.empty();
  auto order = run::order_script(asked, std::move(input), in_.settings.limits,
                                 is_external ? run::Runs::persistent : run::Runs::fresh);
  out.environment = order.run.environment.list();
  auto started = start(std::move(order), is_external ? script.rule : nullptr);
  if (auto* const none = std::get_if<run::NotStarted>(&started)) {
    if (none->finding) out.fail_by(std::move(*none->finding));
    return std::nullopt;
  }
  const auto run = std::get<std::shared_ptr<run::ScriptRun>>(started);
  std::optional<std::string> location;
  context_.restart();
  asio::co_spawn(context_, take_response(run, out, location), [this](const std::exception_ptr& error) {
    context_.stop();
    if (error) std::rethrow_exception(error);
  });
  context_.run();
  return location;
}

run::Started Rehearsal::start(run::ScriptOrder order, const script::Interpreter* external) {
  const auto executor = context_.get_executor();
  std::shared_ptr<run::PoolAccess> share;
  if (external != nullptr) {
    const auto pool = run::pool_order(in_.settings, site_, *external, "", supplies_);
    share = std::make_shared<run::PoolAccess>(
        executor, std::make_shared<run::Pool>(pool, "", executor, std::make_shared<run::PoolMemory>()));
  }
  const auto gate = std::make_shared<run::Gate>(run::Gate::Bounds{1, 0, 1, 1});
  RehearsalAsker asker(executor, runs_);
  run::StartFacts facts;
  run::Started started;
  context_.restart();
  asio::co_spawn(context_, run::start(asker, order, gate, share, facts),
                 [&](const std::exception_ptr& error, run::Started result) {
                   context_.stop();
                   if (error) std::rethrow_exception(error);
                   started = std::move(result);
                 });
  context_.run();
  return started;
}

asio::awaitable<void> Rehearsal::take_response(std::shared_ptr<run::ScriptRun> run, Rehearsed& out,
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
      const run::Pieces pieces = co_await run->read_page();
      if (pieces.empty()) break;
      if (page != nullptr && !run->sends_body()) continue;
      for (const std::string_view piece : pieces) out.body += piece;
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

nlohmann::json json_of(const Rehearsed& result, ShowEnvironment environment) {
  nlohmann::json out = {{"command", text::to_utf8(result.command)},
                        {"script", text::to_utf8(result.script)},
                        {"status", result.status},
                        {"body", text::to_utf8(result.body)},
                        {"body_base64", exchange::to_base64(result.body.empty() ? result.printed : result.body)},
                        {"error_stream", text::to_utf8(result.error_text)}};
  if (!result.printed.empty()) out["printed"] = text::to_utf8(result.printed);
  for (const auto& [name, value] : result.fields)
    out["fields"].push_back({{"name", name}, {"value", text::to_utf8(value)}});
  if (environment == ShowEnvironment::yes)
    for (const std::string& variable : result.environment) out["environment"].push_back(text::to_utf8(variable));
  for (const std::string& path : result.redirected_to) out["redirected_to"].push_back(text::to_utf8(path));
  if (result.end) {
    const auto took = std::chrono::round<std::chrono::milliseconds>(result.end->duration);
    auto& run = out["run"] = {{"milliseconds", took.count()}, {"peak_memory_kib", result.end->peak_memory_kib}};
    if (result.end->exit_status) run["exit_status"] = *result.end->exit_status;
    if (result.end->signal) run["signal"] = *result.end->signal;
  }
  out["findings"] = porter::json_of(result.findings);
  return out;
}

}  // namespace porter::machine
