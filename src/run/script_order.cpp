// See script_order.hpp.
#include "run/script_order.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <ctime>
#include <memory>
#include <utility>

#include "core/files/paths.hpp"
#include "core/files/state.hpp"
#include "core/script/interpreters.hpp"
#include "core/text/text.hpp"

namespace porter::run {
namespace {

/// Between the signal that tells of the processor time used up and the one that cannot be caught.
constexpr std::size_t kGraceOfProcessorTime = 2;
constexpr std::uint16_t kLeastOfFiveDigits = 10000;
/// Longer than anybody looks at a script that a debugger holds.
constexpr std::chrono::hours kNoTimeLimit{24 * 365};

std::vector<ResourceLimit> resource_limits(const Runner& runner, const Limits& limits) {
  std::vector<ResourceLimit> out = {
      {RLIMIT_CPU, {limits.processor_time, limits.processor_time + kGraceOfProcessorTime}},
      {RLIMIT_NOFILE, {limits.open_files, limits.open_files}},
      {RLIMIT_CORE, {0, 0}}};
  if (const std::size_t bytes = address_limit(runner, limits); bytes > 0) out.push_back({RLIMIT_AS, {bytes, bytes}});
  return out;
}

/// A program that speaks to the client directly (RFC 3875, section 5) says so by its name.
bool speaks_directly(const sites::ScriptFound& script) { return files::base_name(script.path).starts_with("nph-"); }

/// The environment that the script is given, but for its last variable.
script::Environment environment_of(const ScriptRequest& request, const std::optional<std::uint64_t>& length) {
  script::Environment out = script::meta_variables(request.script, request.site, request.head, request.target,
                                                   request.caller, length, request.in.passed_on);
  if (request.problem_status > 0) {
    out.add("REDIRECT_STATUS", std::to_string(request.problem_status));
    out.keep_last_of_each_name();
  }
  return out;
}

/// The program and its arguments, argv[0] included.
void set_command(RunOrder& order, const ScriptRequest& request) {
  const sites::ScriptFound& script = request.script;
  if (script.interpreter.empty()) {
    // The words of an indexed query become arguments (RFC 3875, section 4.4).
    order.program = script.path;
    order.arguments = script::query_arguments(request.target.query);
    order.arguments.insert(order.arguments.begin(), script.path);
  } else {
    order.program = script.interpreter;
    order.arguments = script.rule->arguments;
    order.arguments.insert(order.arguments.begin(), script.interpreter);
    for (std::string& argument : directive_arguments(*script.rule, request.in.opcodes, Runs::fresh))
      order.arguments.push_back(std::move(argument));
    order.arguments.push_back(script.path);
  }
}

/// `limits` with those of the request's interpreter and site.
Limits limits_of(const ScriptRequest& request, const Limits& limits) {
  Limits out = limits;
  if (request.script.rule != nullptr)
    for (const auto& [name, value] : request.script.rule->limits) set_limit(out, name, value);
  if (!request.site.has_time_limits) out.first_byte = out.total_time = kNoTimeLimit;
  return out;
}

/// The records of a request that tells `environment`.
std::string records_of(const script::Environment& environment, InputKind input) {
  std::string out = fastcgi::request_records(environment);
  if (input == InputKind::nothing) fastcgi::append_end_of_stream(out, fastcgi::RecordType::input, 0);
  return out;
}

/// PHP knows what it has compiled by the time of the source alone, and another file may have the same: one that was
/// moved there, or that a link leads to now.
void drop_outdated_code(const std::string& opcodes, const sites::ScriptFound& script) {
  if (opcodes.empty()) return;
  const std::unique_ptr<DIR, int (*)(DIR*)> open(::opendir(opcodes.c_str()), ::closedir);
  while (const dirent* const entry = open ? ::readdir(open.get()) : nullptr) {
    if (entry->d_name[0] == '.') continue;
    const std::string compiled = opcodes + "/" + entry->d_name + script.path + ".bin";
    struct stat info {};
    const auto time_of = [](const timespec& time) { return std::pair(time.tv_sec, time.tv_nsec); };
    if (::stat(compiled.c_str(), &info) == 0 && time_of(info.st_mtim) <= time_of(script.info.st_ctim))
      ::unlink(compiled.c_str());
  }
}

script::Environment with_port(script::Environment environment, std::uint16_t port) {
  script::add_remote_port(environment, port);
  return environment;
}

}  // namespace

bool is_persistent(const ScriptRequest& request) {
  // What speaks to the client itself has nobody between them.
  const script::Interpreter* const rule = request.script.rule;
  return rule != nullptr && rule->is_persistent() && !speaks_directly(request.script);
}

std::string start_of(const std::string& path) {
  const files::Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
  std::array<char, 512> buffer{};
  const ssize_t got = file.is_open() ? ::read(file.get(), buffer.data(), buffer.size()) : 0;
  return {buffer.data(), static_cast<std::size_t>(std::max<ssize_t>(got, 0))};
}

std::size_t address_limit(const Runner& runner, const Limits& limits) {
  return runner.reserves_memory ? 0 : limits.address_space;
}

Finding too_many_redirects(const std::string& location) {
  return {Code::script_too_many_redirects, {{"count", std::to_string(kMostLocalRedirects)}, {"location", location}}};
}

std::string command_by_hand(const sites::ScriptFound& script) {
  const std::string name(files::base_name(script.path));
  std::string out = "cd " + text::shell_word(files::folder_of(script.path)) + " && ";
  if (script.interpreter.empty()) return out + text::shell_word("./" + name);
  // Elsewhere a shell does not find it by its name.
  constexpr std::string_view kUsual[] = {"/usr/bin", "/bin", "/usr/local/bin"};
  const std::string_view folder = files::folder_of(script.interpreter);
  const bool is_usual = std::find(std::begin(kUsual), std::end(kUsual), folder) != std::end(kUsual);
  out += is_usual ? std::string(files::base_name(script.interpreter)) : text::shell_word(script.interpreter);
  for (const std::string& argument : script.rule->arguments) out += " " + text::shell_word(argument);
  return out + " " + text::shell_word(name);
}

Runner runner_of(const sites::ScriptFound& script) {
  Runner runner;
  runner.name = script.interpreter.empty() ? script::read_first_line(start_of(script.path)).meant()
                                           : std::string(files::base_name(script.interpreter));
  if (runner.name.empty()) runner.name = "program";
  const auto* const known = script::interpreter_called(script::usual_interpreters(), runner.name);
  runner.reserves_memory = known != nullptr && known->reserves_memory;
  return runner;
}

const Runner& Runners::of(const sites::ScriptFound& script, const std::string& opcodes) {
  constexpr std::size_t kMostKnown = 1000;
  if (known_.size() >= kMostKnown) known_.clear();
  Known& known = known_[script.path];
  if (!files::same_state(known.info, script.info)) {
    known = {{}, runner_of(script)};
    if (script.rule != nullptr && script.rule->is_php()) drop_outdated_code(opcodes, script);
    if (files::is_settled(script.info, std::time(nullptr))) known.info = script.info;
  }
  return known.runner;
}

script::Caller caller_of(const std::string& client_address, std::uint16_t client_port,
                         const std::string& server_address, std::uint16_t server_port, const std::string& host) {
  script::Caller caller{client_address, client_port, server_port, host.empty() ? server_address : host};
  if (caller.server_host.find(':') != std::string::npos) caller.server_host = "[" + caller.server_host + "]";
  return caller;
}

ScriptOrder order_script(const ScriptRequest& request, ScriptInput input, const Limits& limits, Runs runs) {
  ScriptOrder order{.script = request.script,
                    .runner = request.runner,
                    .site = request.site.name,
                    .document_root = request.site.document_root,
                    .limits = limits_of(request, limits),
                    .run = {}};
  order.expects_body = request.head.method != "HEAD";
  order.is_explained = request.is_explained;
  order.speaks_directly = speaks_directly(request.script);
  order.input_length = input.length.value_or(0);
  RunOrder& run = order.run;
  if (runs == Runs::fresh) {
    set_command(run, request);
    run.folder = files::folder_of(request.script.path);
    run.leaves_running = request.site.leaves_running;
    run.limits = resource_limits(request.runner, order.limits);
  }
  order.known = request.known;
  order.client_port = request.caller.client_port;
  if (request.known == nullptr) {
    run.environment = environment_of(request, input.length);
    script::add_remote_port(run.environment, request.caller.client_port);
  }
  run.input = input.kind;
  run.input_file = std::move(input.file);
  run.error_stream_limit = order.limits.error_stream;
  return order;
}

KnownRequest known_request(const ScriptRequest& request, const Limits& limits) {
  KnownRequest out{environment_of(request, std::nullopt), limits_of(request, limits), {}};
  out.records = records_of(with_port(out.environment, kLeastOfFiveDigits), InputKind::nothing);
  out.port_at = out.records.rfind(script::kRemotePort) + script::kRemotePort.size();
  return out;
}

script::Environment ScriptOrder::environment() const {
  return known == nullptr ? run.environment : with_port(known->environment, client_port);
}

FastCgiRun::Order pool_request(ScriptOrder& order) {
  FastCgiRun::Order out;
  if (order.known != nullptr && order.client_port >= kLeastOfFiveDigits) {
    out.request = order.known->records;
    char* const port = out.request.data() + order.known->port_at;
    std::to_chars(port, port + 5, order.client_port);
  } else {
    out.request = records_of(order.environment(), order.run.input);
  }
  out.input = order.run.input;
  out.input_file = std::move(order.run.input_file);
  out.error_stream_limit = order.limits.error_stream;
  out.processor_time = order.limits.processor_time;
  out.is_measured = order.is_measured;
  return out;
}

FastCgiRun::Order external_request(ScriptOrder& order) {
  directive_parameters(*order.script.rule).each([&](std::string_view name, std::string_view value) {
    order.run.environment.add(name, value);
  });
  return pool_request(order);
}

}  // namespace porter::run
