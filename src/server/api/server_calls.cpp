// Calls about the server as a whole: its state, stopping it, having it read its settings again.
#include <fmt/chrono.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>

#include "core/findings/finding_json.hpp"
#include "core/sites/site_json.hpp"
#include "core/text/text.hpp"
#include "server/api/api.hpp"

namespace porter::server {

namespace {

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
          {"most", bounds.turns},
          {"streaming", streaming},
          {"most_in_all", bounds.runs},
          {"waiting", state.waiting},
          {"now", std::move(runs)}};
}

}  // namespace

asio::awaitable<Reply> Api::status(const Call&) {
  const auto uptime =
      std::chrono::duration_cast<std::chrono::seconds>(std::chrono::system_clock::now() - server_.begun());
  Json interpreters = Json::array();
  for (const machine::FoundInterpreter& found : server_.interpreters())
    interpreters.push_back(
        {{"language", found.interpreter.language}, {"path", found.path}, {"version", found.version}});
  Json facts = {{"state", server_.is_stopping() ? "stopping" : "running"},
                {"version", PORTER_VERSION},
                {"process", ::getpid()},
                {"since", time_text(server_.begun())},
                {"uptime_seconds", uptime.count()},
                {"settings", text::to_utf8(instance_.settings)},
                {"folder", text::to_utf8(instance_.root)},
                {"log", text::to_utf8(instance_.log)},
                {"interpreters", std::move(interpreters)},
                {"requests", server_.requests_answered()},
                {"connections", server_.shared().connections.load(std::memory_order_relaxed)},
                {"findings", steering_ == nullptr ? Json::array() : json_of(steering_->standing_findings())}};
  return made_elsewhere([facts = std::move(facts)](const Snapshot& now) {
    Json out = facts;
    out["addresses"] = Json::array();
    for (const Listener& listener : now.listeners) {
      Json names = Json::array();
      for (const std::size_t index : listener.sites) names.push_back(now.settings.sites[index].name);
      out["addresses"].push_back(
          {{"address", listener.address.text()}, {"port", listener.address.port}, {"sites", std::move(names)}});
    }
    out["access_log"] = text::to_utf8(now.settings.access_log.file);
    out["sites"] = sites::json_of_sites(now.settings);
    out["runs"] = json_of(*now.gate);
    return out;
  });
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

}  // namespace porter::server
