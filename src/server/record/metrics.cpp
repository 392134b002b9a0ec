// Counting, and writing OpenMetrics text. See metrics.hpp.
#include "server/record/metrics.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "core/text/text.hpp"

namespace porter::server {
namespace {

/// A label's value between its quotes.
std::string escaped(std::string_view value) {
  std::string out;
  for (const char c : text::to_utf8(value)) {
    if (c == '\n') {
      out += "\\n";
      continue;
    }
    if (c == '\\' || c == '"') out += '\\';
    out += c;
  }
  return out;
}

std::string_view way_of(const RunFacts& run) {
  if (!run.persistent) return "fresh";
  return run.persistent->external.empty() ? "persistent" : "external";
}

}  // namespace

MetricFamily::MetricFamily(std::string& out, std::string_view name, std::string_view type, std::string_view unit,
                           std::string_view help)
    : out_(out), name_(name) {
  out_ += fmt::format("# TYPE {} {}\n", name, type);
  if (!unit.empty()) out_ += fmt::format("# UNIT {} {}\n", name, unit);
  out_ += fmt::format("# HELP {} {}\n", name, help);
}

void MetricFamily::begin(std::string_view suffix, const Labels& labels) {
  out_ += name_;
  out_ += suffix;
  if (!labels.empty()) out_ += '{';
  for (std::size_t i = 0; i < labels.size(); ++i)
    out_ += fmt::format("{}{}=\"{}\"", i == 0 ? "" : ",", labels[i].first, escaped(labels[i].second));
  out_ += labels.empty() ? " " : "} ";
}

void MetricFamily::add(std::string_view suffix, const Labels& labels, std::uint64_t value) {
  begin(suffix, labels);
  out_ += fmt::format("{}\n", value);
}

void MetricFamily::add(std::string_view suffix, const Labels& labels, double value) {
  begin(suffix, labels);
  out_ += fmt::format("{}\n", value);
}

void Metrics::count(const std::vector<Exchange>& exchanges) {
  const std::lock_guard lock(mutex_);
  OfSite* last = nullptr;
  const std::string* last_name = nullptr;
  for (const Exchange& exchange : exchanges) {
    static const std::string kNone;
    const std::string& name = exchange.site ? *exchange.site : kNone;
    // Those of a burst are mostly of one site.
    if (last == nullptr || last_name != &name) {
      last = &sites_[name];
      last_name = &name;
    }
    const double seconds = std::chrono::duration<double>(exchange.duration).count();
    ++last->by_status[static_cast<std::size_t>(std::clamp(exchange.status / 100, 0, 5))];
    ++last->by_time[static_cast<std::size_t>(std::lower_bound(kBounds.begin(), kBounds.end(), seconds) -
                                             kBounds.begin())];
    last->seconds += seconds;
    last->received += exchange.received;
    last->sent += exchange.sent;
    for (const RunFacts& run : exchange.runs)
      if (!run.was_left_waiting) ++runs_[{run.language, std::string(way_of(run))}];
    for (const Finding& finding : exchange.findings) ++findings_[finding.code];
  }
}

void Metrics::count_reload(bool is_applied) {
  const std::lock_guard lock(mutex_);
  ++(is_applied ? applied_ : refused_);
}

void Metrics::write(std::string& out) {
  const std::lock_guard lock(mutex_);
  {
    static constexpr std::string_view kClasses[] = {"none", "1xx", "2xx", "3xx", "4xx", "5xx"};
    MetricFamily requests(out, "uporter_requests", "counter", "", "Requests by site and class of status.");
    for (const auto& [site, of] : sites_)
      for (std::size_t i = 0; i < of.by_status.size(); ++i)
        if (of.by_status[i] > 0) requests.add("_total", {{"site", site}, {"status", kClasses[i]}}, of.by_status[i]);
  }
  {
    MetricFamily times(out, "uporter_request_duration_seconds", "histogram", "seconds",
                       "From the end of a request's header to the end of its response.");
    for (const auto& [site, of] : sites_) {
      std::uint64_t below = 0;
      for (std::size_t i = 0; i < of.by_time.size(); ++i) {
        below += of.by_time[i];
        const std::string bound = i < kBounds.size() ? fmt::format("{:#}", kBounds[i]) : "+Inf";
        times.add("_bucket", {{"site", site}, {"le", bound}}, below);
      }
      times.add("_count", {{"site", site}}, below);
      times.add("_sum", {{"site", site}}, of.seconds);
    }
  }
  {
    MetricFamily received(out, "uporter_received_bytes", "counter", "bytes", "What clients have sent, by site.");
    for (const auto& [site, of] : sites_) received.add("_total", {{"site", site}}, of.received);
  }
  {
    MetricFamily sent(out, "uporter_sent_bytes", "counter", "bytes", "What clients were sent, by site.");
    for (const auto& [site, of] : sites_) sent.add("_total", {{"site", site}}, of.sent);
  }
  {
    MetricFamily runs(out, "uporter_runs", "counter", "",
                      "Runs of scripts, by what ran them and whose process it was.");
    for (const auto& [what, count] : runs_) runs.add("_total", {{"language", what.first}, {"way", what.second}}, count);
  }
  {
    MetricFamily findings(out, "uporter_findings", "counter", "", "What was told of requests, by its code.");
    for (const auto& [code, count] : findings_) findings.add("_total", {{"code", code_name(code)}}, count);
  }
  MetricFamily reloads(out, "uporter_reloads", "counter", "", "Settings that were read while the server ran.");
  reloads.add("_total", {{"result", "applied"}}, applied_);
  reloads.add("_total", {{"result", "refused"}}, refused_);
}

}  // namespace porter::server
