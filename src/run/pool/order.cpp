// What pooled processes are started from, and what PHP is told beside its own settings. See order.hpp.
#include "run/pool/order.hpp"

#include <algorithm>
#include <thread>
#include <utility>

#include "core/script/interpreters.hpp"
#include "run/script_order.hpp"

namespace porter::run {
namespace {

using Directives = std::vector<std::pair<std::string, std::string>>;

/// What PHP would otherwise believe for a while without looking: seconds for a compiled script (2), the settings of a
/// folder (300), and where a path leads (120). Where opcache finds a script by its path, it looks again where that
/// leads as it looks at the file's time; to have each path resolved anew beside that takes a page of many files twice
/// as long.
const Directives kTrueAtOnce = {{"opcache.validate_timestamps", "1"},
                                {"opcache.revalidate_freq", "0"},
                                {"user_ini.cache_ttl", "-1"},
                                {"realpath_cache_size", "0"}};

/// Those of the server first, as far as the settings have not their own.
Directives directives_of(const script::Interpreter& rule, Directives own) {
  std::erase_if(own, [&](const auto& one) {
    return std::any_of(rule.directives.begin(), rule.directives.end(),
                       [&](const auto& other) { return other.first == one.first; });
  });
  own.insert(own.end(), rule.directives.begin(), rule.directives.end());
  return own;
}

}  // namespace

std::size_t runs_at_once(const Limits& limits) {
  return limits.runs > 0 ? limits.runs : 2 * std::max<std::size_t>(1, std::thread::hardware_concurrency());
}

std::vector<std::string> directive_arguments(const script::Interpreter& rule, const std::string& opcodes, Runs runs) {
  std::vector<std::string> out;
  if (!rule.is_php()) return out;
  Directives own = {{"opcache.validate_timestamps", "1"}};
  if (runs == Runs::persistent) own = kTrueAtOnce;
  if (!opcodes.empty()) {
    own.emplace_back("opcache.file_cache", opcodes);
    // Memory that only one run would see is not worth being set up.
    if (runs == Runs::fresh) own.emplace_back("opcache.file_cache_only", "1");
  }
  for (const auto& [name, value] : directives_of(rule, std::move(own))) {
    out.emplace_back("-d");
    out.push_back(script::directive_line(name, value));
  }
  return out;
}

script::Environment directive_parameters(const script::Interpreter& rule) {
  script::Environment out;
  if (!rule.is_php()) return out;
  std::string lines;
  for (const auto& [name, value] : directives_of(rule, kTrueAtOnce))
    lines += (lines.empty() ? "" : "\n") + script::directive_line(name, value);
  out.add("PHP_VALUE", lines);
  return out;
}

PoolOrder pool_order(const Settings& settings, const Site& site, const script::Interpreter& rule,
                     const std::string& program, const Supplies& in) {
  PoolOrder out;
  out.site = site.name;
  out.language = rule.language;
  out.fresh_setting =
      rule.fresh_setting.empty() ? "[interpreter." + rule.language + "]\npersistent = false" : rule.fresh_setting;
  out.at_once = rule.persistence.processes > 0 ? rule.persistence.processes : runs_at_once(settings.limits);
  const bool is_set = rule.persistence.processes > 0 || settings.limits.runs > 0;
  out.processes = is_set ? out.at_once : std::max(out.at_once, kUsualMost);
  constexpr std::size_t kUsualRuns = 10'000;
  out.runs_each = rule.persistence.runs_each.value_or(kUsualRuns);
  out.idle_time = rule.persistence.idle_time;
  out.external = rule.persistence.external;
  if (!out.external.empty()) {
    out.queue = settings.limits.queue;
    return out;
  }
  Limits limits = settings.limits;
  for (const auto& [name, value] : rule.limits) set_limit(limits, name, value);
  out.is_php = rule.is_php();
  out.program = program;
  out.arguments = {program};
  out.arguments.insert(out.arguments.end(), rule.arguments.begin(), rule.arguments.end());
  for (std::string& argument : directive_arguments(rule, in.opcodes, Runs::persistent))
    out.arguments.push_back(std::move(argument));
  out.environment = in.passed_on;
  // Its processes are replaced by whoever keeps them, not by themselves.
  if (rule.is_php()) out.environment.emplace_back("PHP_FCGI_MAX_REQUESTS=0");
  for (const auto* const more : {&rule.environment, &site.environment})
    out.environment.insert(out.environment.end(), more->begin(), more->end());
  out.leaves_running = site.leaves_running;
  out.is_of_folder = !rule.folder.empty();
  out.folder = rule.folder.empty() ? site.document_root : rule.folder;
  out.address_space = rule.reserves_memory ? 0 : limits.address_space;
  out.open_files = limits.open_files;
  return out;
}

}  // namespace porter::run
