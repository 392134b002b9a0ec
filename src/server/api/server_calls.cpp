// Calls about the server as a whole: its state, stopping it, having it read its settings again.
#include <fmt/chrono.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <climits>
#include <filesystem>

#include "core/files/beneath.hpp"
#include "core/findings/finding_json.hpp"
#include "core/sites/site_json.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/network_urls.hpp"
#include "machine/probe.hpp"
#include "server/api/api.hpp"
#include "server/console/console.hpp"

namespace porter::server {

namespace {

/// Mostly it only hands the folder to a program that runs already.
constexpr std::chrono::seconds kMostOpening{2};

std::string time_text(std::chrono::system_clock::time_point time) {
  return fmt::format("{:%Y-%m-%dT%H:%M:%SZ}", fmt::gmtime(std::chrono::system_clock::to_time_t(time)));
}

Json json_of(run::Gate& gate) {
  const auto bounds = gate.bounds();
  const auto state = gate.state();
  const auto now = std::chrono::system_clock::now();
  Json runs = Json::array();
  std::size_t streaming = 0;
  for (const run::Gate::Run& run : state.runs) {
    const auto age = std::max(std::chrono::seconds(0), std::chrono::floor<std::chrono::seconds>(now - run.since));
    streaming += run.streams ? 1 : 0;
    runs.push_back({{"script", text::to_utf8(run.script)},
                    {"site", run.site},
                    {"since", time_text(run.since)},
                    {"seconds", age.count()},
                    {"process", run.process},
                    {"streams", run.streams}});
  }
  return {{"running", state.runs.size() - streaming},
          {"most", bounds.slots},
          {"streaming", streaming},
          {"most_in_all", bounds.runs},
          {"waiting", state.waiting},
          {"now", std::move(runs)}};
}

}  // namespace

asio::awaitable<Json> Api::standing_findings() {
  std::vector<SettingsProblem> standing;
  if (steering_ != nullptr) {
    auto looking = steering_->standing_findings();
    standing = co_await std::move(looking);
  }
  Json out = porter::json_of(standing);
  if (const auto problem = server_.problem()) out.push_back(porter::json_of(*problem));
  // As the system tells it of a file that another has taken the place of.
  std::error_code error;
  if (std::filesystem::read_symlink("/proc/self/exe", error).string().ends_with(" (deleted)"))
    out.push_back(porter::json_of(Finding{Code::program_replaced, {{"option", instance_.option()}}}));
  co_return out;
}

asio::awaitable<Reply> Api::status(const Call&) {
  auto looking = standing_findings();
  Json findings = co_await std::move(looking);
  const auto uptime =
      std::chrono::duration_cast<std::chrono::seconds>(std::chrono::system_clock::now() - server_.begun());
  Json interpreters = Json::array();
  for (const machine::FoundInterpreter& found : *server_.interpreters())
    interpreters.push_back({{"language", found.interpreter.language},
                            {"site", text::to_utf8(found.site)},
                            {"path", found.path},
                            {"version", found.version},
                            {"persistent", found.interpreter.is_persistent()}});
  Json pools = Json::array();
  for (const auto& pool : server_.shared().pools.all()) {
    const auto state = pool->state();
    pools.push_back({{"site", text::to_utf8(pool->order().site)},
                     {"language", text::to_utf8(pool->order().language)},
                     {"processes", state.processes},
                     {"most", pool->order().processes},
                     {"idle", state.idle},
                     {"waiting", state.waiting},
                     {"runs", state.runs},
                     {"external", pool->order().external}});
  }
  Json facts = {{"state", server_.state()},
                {"has_desktop", machine::has_display()},
                {"console", console_ == nullptr ? "" : console_->url()},
                {"version", PORTER_VERSION},
                {"process", ::getpid()},
                {"since", time_text(server_.begun())},
                {"uptime_seconds", uptime.count()},
                {"settings", text::to_utf8(instance_.settings)},
                {"folder", text::to_utf8(instance_.root)},
                {"log", text::to_utf8(instance_.log)},
                {"interpreters", std::move(interpreters)},
                {"pools", std::move(pools)},
                {"requests", server_.requests_answered()},
                {"connections", server_.shared().connections.load(std::memory_order_relaxed)},
                {"findings", std::move(findings)}};
  auto making = on_helper_thread([facts = std::move(facts)](const Snapshot& now) {
    Json out = facts;
    out["addresses"] = Json::array();
    for (const Listener& listener : now.listeners) {
      Json names = Json::array();
      for (const std::size_t index : listener.sites) names.push_back(now.settings.sites[index].name);
      out["addresses"].push_back(
          {{"address", listener.address.text()}, {"port", listener.address.port}, {"sites", std::move(names)}});
    }
    out["access_log"] = text::to_utf8(now.settings.access_log.file);
    out["sites"] = machine::json_of_sites(now.settings);
    out["runs"] = json_of(*now.gate);
    return out;
  });
  Reply reply = co_await std::move(making);
  co_return reply;
}

asio::awaitable<Reply> Api::metrics(const Call&) {
  auto updating = server_.bring_metrics_up_to_date();
  co_await std::move(updating);
  std::string out;
  MetricFamily(out, "uporter", "info", "", "The server.").add("_info", {{"version", PORTER_VERSION}}, std::uint64_t{1});
  const auto since = std::chrono::duration<double>(server_.begun().time_since_epoch());
  MetricFamily(out, "uporter_start_time_seconds", "gauge", "seconds", "When the server was started, since 1970.")
      .add("", {}, since.count());
  Shared& shared = server_.shared();
  shared.metrics.write(out);
  MetricFamily(out, "uporter_connections", "gauge", "", "Connections of clients that are open.")
      .add("", {}, std::uint64_t{shared.connections.load(std::memory_order_relaxed)});
  {
    const auto gate = server_.snapshot().gate->state();
    MetricFamily slots(out, "uporter_scripts", "gauge", "", "Scripts that run, and requests that wait for a slot.");
    slots.add("", {{"state", "running"}}, std::uint64_t{gate.runs.size()});
    slots.add("", {{"state", "waiting"}}, std::uint64_t{gate.waiting});
  }
  const auto pools = shared.pools.all();
  {
    MetricFamily processes(out, "uporter_pool_processes", "gauge", "", "Processes of each pool.");
    for (const auto& pool : pools) {
      const auto state = pool->state();
      const auto& order = pool->order();
      const MetricFamily::Labels of = {{"site", order.site}, {"language", order.language}, {"program", order.program}};
      for (const auto& [name, count] :
           {std::pair("idle", state.idle), std::pair("working", state.processes - state.idle)}) {
        auto labels = of;
        labels.emplace_back("state", name);
        processes.add("", labels, std::uint64_t{count});
      }
    }
  }
  {
    MetricFamily waiting(out, "uporter_pool_waiting", "gauge", "", "Requests that wait for a process of each pool.");
    for (const auto& pool : pools) {
      const auto& order = pool->order();
      waiting.add("", {{"site", order.site}, {"language", order.language}, {"program", order.program}},
                  std::uint64_t{pool->state().waiting});
    }
  }
  const auto kept = shared.exchanges.counts();
  MetricFamily(out, "uporter_exchanges_recorded", "counter", "", "Exchanges that were recorded.")
      .add("_total", {}, kept.recorded);
  MetricFamily(out, "uporter_exchanges_evicted", "counter", "", "Recorded exchanges that have gone for want of room.")
      .add("_total", {}, kept.evicted);
  out += "# EOF\n";
  Reply reply;
  reply.type = "application/openmetrics-text; version=1.0.0; charset=utf-8";
  reply.bytes = std::move(out);
  co_return reply;
}

asio::awaitable<Reply> Api::stop(const Call&) {
  // The reply leaves before anything of this has an effect: it is sent by this thread, without a pause.
  server_.stop();
  co_return Reply{202, {{"state", "stopping"}}};
}

asio::awaitable<Reply> Api::reload(const Call&) {
  if (steering_ == nullptr) co_return refused(no_settings());
  const auto findings = co_await steering_->reload();
  if (!findings.empty()) co_return refused(findings);
  co_return Reply{200, {{"findings", Json::array()}}};
}

asio::awaitable<Reply> Api::pause(const Call&) {
  if (server_.is_stopping()) co_return refused(Finding{Code::stopping, {}});
  server_.pause();
  Reply reply;
  reply.body = {{"state", server_.state()}};
  co_return reply;
}

asio::awaitable<Reply> Api::resume(const Call&) {
  const auto findings = server_.resume();
  Reply reply;
  reply.body = {{"state", server_.state()}};
  if (!findings.empty()) {
    reply.status = 409;
    reply.body = {{"findings", porter::json_of(findings)}};
  }
  co_return reply;
}

asio::awaitable<Reply> Api::restart(const Call&) {
  // What would not start is not stopped.
  if (steering_ != nullptr) {
    auto reading = server_.shared().helpers.settings.run_within(
        kMostPatience, [file = instance_.settings] { return machine::read_settings_file(file).problems; });
    const auto problems = co_await std::move(reading);
    if (!problems) co_return refused(no_response("The settings " + instance_.settings));
    if (!problems->empty()) co_return refused(*problems);
  }
  if (!server_.restart()) co_return refused(Finding{Code::stopping, {}});
  Reply reply;
  reply.status = 202;
  reply.body = {{"state", server_.state()}};
  co_return reply;
}

asio::awaitable<std::string> Api::output_of_own(std::vector<std::string> words, bool& is_fine) {
  // The commands are the one place that knows how; they lie beside this program.
  std::array<char, PATH_MAX> own{};
  const ssize_t length = ::readlink("/proc/self/exe", own.data(), own.size());
  run::RunOrder order;
  order.program = std::string(own.data(), static_cast<std::size_t>(std::max<ssize_t>(length - 1, 0)));
  order.arguments = {order.program};
  order.arguments.insert(order.arguments.end(), words.begin(), words.end());
  order.environment = script::Environment(machine::own_environment());
  order.folder = "/";
  auto started = run::Run::start(server_.context().get_executor(), probes_, std::move(order));
  is_fine = false;
  if (std::holds_alternative<run::StartError>(started)) co_return "The command uporter is not beside uporterd.";
  const auto process = std::get<std::shared_ptr<run::Run>>(started);
  auto asking = machine::output_of(process);
  std::string output = co_await std::move(asking);
  const run::ProcessEnd end = co_await process->end();
  is_fine = end.exit_status == 0;
  co_return output.empty() ? process->error_text() : output;
}

asio::awaitable<Reply> Api::open_folder(const Call& call) {
  constexpr std::string_view kFolder = "/folder";
  std::string name = call.rest_of_path("/v1/sites/");
  if (!name.ends_with(kFolder)) co_return bad_call(404, "There is no such call");
  name.resize(name.size() - kFolder.size());
  const auto snapshot = server_.shared_snapshot();
  const Site* const site = snapshot->settings.find_site(name);
  if (site == nullptr) co_return bad_call(404, "There is no such site");
  const std::string program = files::find_program("xdg-open", server_.shared().search_path);
  if (!machine::has_display() || program.empty())
    co_return bad_call(503, "There is no desktop on which a folder could be opened");
  // It is the user's from now on, and outlives the server.
  run::StartOrder order;
  order.program = program;
  order.arguments = {program, site->document_root};
  order.environment = script::Environment(machine::own_environment());
  order.folder = "/";
  order.leads = run::StartOrder::Leads::session;
  auto opening = server_.shared().helpers.folders.run_within(
      kMostOpening, [order = std::move(order)] { return run::run_to_its_end(order).value_or(-1); });
  // One that is still there by then is the file manager itself.
  const auto status = co_await std::move(opening);
  if (status.value_or(0) != 0) co_return bad_call(503, "The file manager cannot be started");
  Reply reply;
  reply.body = {{"folder", text::to_utf8(site->document_root)}};
  co_return reply;
}

asio::awaitable<Reply> Api::autostart(const Call& call) {
  if (steering_ == nullptr) co_return refused(no_settings());
  bool is_fine = false;
  if (call.method == "PUT") {
    const Json body = call.object();
    if (!body.contains("on") || !body["on"].is_boolean()) co_return bad_call(422, "Whether it is to be on is missing");
    std::vector<std::string> words = {"autostart", body["on"].get<bool>() ? "on" : "off", "--settings",
                                      instance_.settings, "--json"};
    auto changing = output_of_own(std::move(words), is_fine);
    const std::string said = co_await std::move(changing);
    if (!is_fine) {
      Reply reply;
      reply.status = 503;
      reply.body = parse_json(text::to_utf8(said));
      if (!reply.body.is_object()) co_return bad_call(503, "It could not be changed: " + text::escape_line(said));
      co_return reply;
    }
  }
  std::vector<std::string> words = {"autostart", "status", "--settings", instance_.settings, "--json"};
  // That it is off is told by the exit status, too.
  auto asking = output_of_own(std::move(words), is_fine);
  const std::string told = co_await std::move(asking);
  Reply reply;
  reply.body = parse_json(text::to_utf8(told));
  if (!reply.body.is_object()) co_return bad_call(503, "It cannot be told: " + text::escape_line(told));
  co_return reply;
}

}  // namespace porter::server
