// See exchange.hpp.
#include "server/record/exchange.hpp"

#include <utility>

namespace porter::server {
namespace {

std::size_t heap_of(const std::string& text) { return text.capacity() > 15 ? text.capacity() : 0; }

}  // namespace

Exchange facts_to_keep(Exchange& exchange) {
  std::vector<std::string> trail = std::exchange(exchange.trail, {});
  Exchange out = copy_of(exchange);
  out.trail = std::move(trail);
  for (RunFacts& run : exchange.runs) run.order.reset();
  return out;
}

std::size_t bytes_of(const Exchange& exchange) {
  std::size_t bytes = sizeof exchange;
  for (const std::string* const text : {&exchange.client, &exchange.method, &exchange.target}) bytes += heap_of(*text);
  if (const auto& fields = exchange.fields)
    bytes += sizeof *fields + heap_of(fields->host) + heap_of(fields->referrer) + heap_of(fields->user_agent);
  for (const std::string& step : exchange.trail) bytes += sizeof(std::string) + heap_of(step);
  for (const RunFacts& run : exchange.runs) {
    bytes += sizeof run;
    for (const std::string* const text : {&run.runner, &run.script}) bytes += heap_of(*text);
    if (const auto& order = run.order)
      bytes += sizeof *order + heap_of(order->command) + heap_of(order->environment) + heap_of(order->folder);
    for (const std::string& line : run.error_lines) bytes += sizeof(std::string) + heap_of(line);
  }
  for (const Finding& finding : exchange.findings)
    for (const Fact& fact : finding.facts) bytes += sizeof fact + heap_of(fact.first) + heap_of(fact.second);
  return bytes;
}

std::size_t error_count(const Exchange& exchange) {
  std::size_t count = 0;
  for (const RunFacts& run : exchange.runs) count += run.error_lines.size() + run.more_error_lines;
  return count;
}

Exchange copy_of(const Exchange& exchange) {
  Exchange copy;
  copy.time = exchange.time;
  copy.begun = exchange.begun;
  copy.duration = exchange.duration;
  copy.client = exchange.client;
  copy.site = exchange.site;
  copy.is_one_of_several = exchange.is_one_of_several;
  copy.method = exchange.method;
  copy.target = exchange.target;
  copy.minor_version = exchange.minor_version;
  copy.status = exchange.status;
  copy.body_bytes = exchange.body_bytes;
  copy.by = exchange.by;
  copy.is_by_fallback = exchange.is_by_fallback;
  copy.findings = exchange.findings;
  copy.runs = exchange.runs;
  copy.trail = exchange.trail;
  return copy;
}

}  // namespace porter::server
