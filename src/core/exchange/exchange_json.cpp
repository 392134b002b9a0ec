// See exchange_json.hpp.
#include "core/exchange/exchange_json.hpp"

#include "core/exchange/message.hpp"
#include "core/findings/finding_json.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"

namespace porter::exchange {
namespace {

using Json = nlohmann::json;

Json texts(const std::vector<std::string>& all) {
  Json out = Json::array();
  for (const std::string& text : all) out.push_back(text::to_utf8(text));
  return out;
}

Json json_of(const Wire& wire) {
  const Message message = read_message(wire.bytes);
  Json fields = Json::array();
  for (const auto& [name, value] : message.fields)
    fields.push_back({{"name", text::to_utf8(name)}, {"value", text::to_utf8(value)}});
  Json out = {{"start_line", text::to_utf8(message.start_line)},
              {"fields", std::move(fields)},
              {"head_bytes", message.body_at},
              {"bytes", wire.length},
              {"kept_bytes", wire.kept()}};
  if (!message.interim.empty()) out["interim"] = texts(message.interim);
  for (const FileSlice& slice : wire.slices)
    out["from_files"].push_back(
        {{"at", slice.at}, {"file", text::to_utf8(slice.file)}, {"offset", slice.offset}, {"length", slice.length}});
  return out;
}

Json json_of(const Run& run) {
  Json out = {{"runner", text::to_utf8(run.runner)},
              {"script", text::to_utf8(run.script)},
              {"command", texts(run.command)},
              {"environment", texts(run.environment)},
              {"folder", text::to_utf8(run.folder)},
              {"queue_milliseconds", millis(run.queue_wait)},
              {"start_milliseconds", millis(run.start)},
              {"milliseconds", millis(run.duration)},
              {"processor_milliseconds", millis(run.processor_time)},
              {"peak_memory_kib", run.peak_memory_kib},
              {"error_lines", texts(run.error_lines)},
              {"more_error_lines", run.more_error_lines}};
  static constexpr const char* kWays[] = {"fresh", "persistent", "external"};
  out["way"] = kWays[static_cast<int>(run.way)];
  if (!run.waited_for.empty()) out["waited_for"] = text::to_utf8(run.waited_for);
  if (run.process != 0) out["process"] = run.process;
  if (run.run_of_process != 0) out["run_of_process"] = run.run_of_process;
  if (!run.external.empty()) out["external"] = text::to_utf8(run.external);
  if (run.exit_status) out["exit_status"] = *run.exit_status;
  if (run.signal) out["signal"] = *run.signal;
  if (run.redirected_to) out["redirected_to"] = text::to_utf8(*run.redirected_to);
  return out;
}

}  // namespace

Json row_of(const Recorded& exchange) {
  Json out = {{"number", exchange.number},
              {"in_progress", exchange.is_in_progress},
              {"time", text::format_time(exchange.time)},
              {"client", exchange.client},
              {"method", text::to_utf8(exchange.method)},
              {"target", text::to_utf8(exchange.target)},
              {"status", exchange.status},
              {"bytes", exchange.body_bytes},
              {"milliseconds", millis(exchange.duration)},
              {"kind", exchange.kind},
              {"answered_by", text::to_utf8(exchange.answered_by)}};
  if (!exchange.site.empty()) out["site"] = text::to_utf8(exchange.site);
  if (exchange.repeats != 0) out["repeats"] = exchange.repeats;
  if (exchange.error_count > 0) out["errors"] = exchange.error_count;
  return out;
}

Json json_of(const Recorded& exchange) {
  Json out = row_of(exchange);
  std::chrono::nanoseconds queue{0};
  std::chrono::nanoseconds start{0};
  Json runs = Json::array();
  for (const Run& run : exchange.runs) {
    queue += run.queue_wait;
    start += run.start;
    runs.push_back(json_of(run));
  }
  out["client_port"] = exchange.client_port;
  out["server"] = exchange.server;
  out["server_port"] = exchange.server_port;
  out["timing"] = {{"head", millis(exchange.head_wait)},
                   {"queue", millis(queue)},
                   {"start", millis(start)},
                   {"first_byte", millis(exchange.first_byte)},
                   {"all", millis(exchange.duration)}};
  out["request"] = json_of(exchange.request);
  out["response"] = json_of(exchange.response);
  out["runs"] = std::move(runs);
  out["trail"] = texts(exchange.trail);
  out["findings"] = porter::json_of(exchange.findings);
  return out;
}

}  // namespace porter::exchange
