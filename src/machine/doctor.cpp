// The checks of the installation, in the order in which a start would meet them.
#include "machine/doctor.hpp"

#include <netdb.h>
#include <sys/stat.h>
#include <unistd.h>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/io_context.hpp>
#include <cerrno>
#include <filesystem>
#include <optional>

#include "core/files/beneath.hpp"
#include "core/files/paths.hpp"
#include "core/http/target.hpp"
#include "core/script/interpreters.hpp"
#include "core/script/judge.hpp"
#include "core/sites/route.hpp"
#include "core/sites/shown_names.hpp"
#include "core/text/text.hpp"
#include "machine/foreign_rules.hpp"
#include "machine/packages.hpp"
#include "machine/php.hpp"
#include "machine/port_holder.hpp"
#include "machine/probe.hpp"
#include "run/script_order.hpp"

namespace porter::machine {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kMostScripts = 500;

SettingsProblem finding_in(Finding finding, const std::string& file) { return {std::move(finding), file, 0, 0, {}}; }

std::string counted(std::size_t count, const std::string& one, const std::string& many) {
  return std::to_string(count) + " " + (count == 1 ? one : many);
}

Check check_state(const Instance& instance, const Standing& standing) {
  Check check{"The server",
              standing.is_running ? "running (process " + std::to_string(standing.process) + ")" : "not running",
              {}};
  if (const auto left_behind = standing.is_running ? std::nullopt : killed_holder(instance))
    check.findings.push_back(
        finding_in({Code::stale_state,
                    {{"file", instance.lock}, {"process", std::to_string(*left_behind)}, {"option", standing.option}}},
                   instance.lock));
  return check;
}

Check check_address(const Settings& settings, const Address& address, const Standing& standing) {
  Check check{"The address " + address.text(), "free", {}};
  const auto holder = find_port_holder(address.port);
  if (holder && standing.is_running && holder->id == standing.process) {
    check.state = "open";
  } else if (holder) {
    check.state = "taken";
    check.findings.push_back(finding_in(
        {Code::port_taken, {{"port", std::to_string(address.port)}, {"holder", text_of(*holder)}}}, settings.file));
  } else if (address.port < first_open_port() && ::geteuid() != 0) {
    check.state = "reserved";
    check.findings.push_back(
        finding_in({Code::port_reserved, {{"port", std::to_string(address.port)}}}, settings.file));
  }
  return check;
}

/// Files below the document root that the server may not read, with what their requests are told.
std::vector<SettingsProblem> unreadable_files(const sites::ResolveContext& in, const Site& site) {
  constexpr std::size_t kMostEntries = 20'000;
  constexpr std::size_t kMostTold = 10;
  std::vector<SettingsProblem> out;
  std::error_code error;
  std::size_t count = 0;
  const auto options = fs::directory_options::skip_permission_denied;
  for (fs::recursive_directory_iterator entry(site.document_root, options, error), end;
       !error && entry != end && count < kMostEntries && out.size() < kMostTold; entry.increment(error), ++count) {
    const std::string path = entry->path().string();
    if (!entry->is_regular_file(error) || ::access(path.c_str(), R_OK) == 0) continue;
    const http::Target target = http::target_of(path.substr(site.document_root.size()));
    auto route = sites::route_within(in, site, {"GET", target});
    auto* const finding = std::get_if<Finding>(&route.outcome);
    if (finding != nullptr && finding->code == Code::unreadable) out.push_back(finding_in(std::move(*finding), path));
  }
  return out;
}

Check check_root(const sites::ResolveContext& in, const Site& site) {
  Check check{"The document root of \"" + site.name + "\"", {}, {}};
  std::error_code error;
  std::size_t count = 0;
  for (fs::directory_iterator entry(site.document_root, error), end; !error && entry != end; entry.increment(error))
    ++count;
  check.state = site.document_root + ", " + counted(count, "entry", "entries");
  if (error) {
    check.findings.push_back(finding_in({site.is_root_missing ? Code::document_root_missing : Code::document_root_gone,
                                         {{"root", site.document_root},
                                          {"root_quoted", text::shell_word(site.document_root)},
                                          {"reason", error.message()}}},
                                        site.document_root));
  } else if (auto forbidding = find_forbidding_rules(site)) {
    check.findings.push_back(finding_in(std::move(*forbidding), site.document_root));
  } else if (auto rules = find_foreign_rules(site)) {
    check.findings.push_back(finding_in(std::move(*rules), site.document_root));
  } else if (count == 0 && site.mounts.empty()) {
    check.findings.push_back(finding_in(
        {Code::root_empty, {{"root", site.document_root}, {"root_quoted", text::shell_word(site.document_root)}}},
        site.document_root));
  }
  for (SettingsProblem& problem : unreadable_files(in, site)) check.findings.push_back(std::move(problem));
  return check;
}

/// What keeps a script that is run directly from starting, as far as its beginning tells; nullopt: nothing does.
std::optional<Finding> judge_beginning(const sites::ScriptFound& script, const std::string& search_path) {
  const std::string start = run::start_of(script.path);
  const script::FirstLine line = script::read_first_line(start);
  const bool is_by_env = files::base_name(line.program) == "env";
  const bool is_found = ::access(line.program.c_str(), X_OK) == 0 && !line.text.ends_with('\r') &&
                        (!is_by_env || !files::find_program(line.meant(), search_path).empty());
  if (!line.program.empty() && is_found) return std::nullopt;
  if (line.program.empty() && script::is_compiled(start)) return std::nullopt;
  const int error = line.program.empty() ? ENOEXEC : ENOENT;
  return script::judge_start(script.path, run::command_by_hand(script), error, start);
}

/// True for what may lie in a script folder and is none: without a first line and no binary, or a source beside what
/// was made of it.
bool is_no_program(const Finding& finding, const std::string& path) {
  if (finding.code == Code::source_not_compiled) return ::access(path.substr(0, path.rfind('.')).c_str(), X_OK) == 0;
  const std::string start = run::start_of(path);
  return finding.code == Code::script_not_executable && !start.starts_with("#!") && !script::is_compiled(start);
}

/// Whether programs of this computer find the names of the sites, as browsers do.
std::optional<Check> check_names(const Settings& settings) {
  constexpr std::string_view kEnd = ".localhost";
  for (const Site& site : settings.sites)
    for (const std::string& host : site.hosts) {
      if (!host.ends_with(kEnd) || host.starts_with("*")) continue;
      Check check{"Names below .localhost", "found by programs as by browsers", {}};
      addrinfo* found = nullptr;
      if (::getaddrinfo(host.c_str(), nullptr, nullptr, &found) == 0) {
        ::freeaddrinfo(found);
        return check;
      }
      check.state = "found by browsers alone";
      check.findings.push_back(finding_in({Code::localhost_unknown, {{"name", host}}}, settings.file));
      return check;
    }
  return std::nullopt;
}

/// Asks for every file in the site's script folders what a request for it would lead to.
Check check_scripts(const sites::ResolveContext& in, const Site& site) {
  Check check{"The scripts of \"" + site.name + "\"", {}, {}};
  std::size_t fine = 0;
  for (const std::string& name : site.script_folders) {
    const std::string folder = site.document_root + "/" + name;
    std::error_code error;
    for (fs::recursive_directory_iterator entry(folder, error), end; !error && entry != end; entry.increment(error)) {
      const std::string path = entry->path().string();
      if (!entry->is_regular_file(error) || sites::is_hidden(site, files::base_name(path))) continue;
      if (fine + check.findings.size() == kMostScripts) break;
      const std::string url = http::percent_encode_path(path.substr(site.document_root.size()));
      const auto target = http::parse_target(url, "GET");
      if (std::holds_alternative<http::TargetError>(target)) continue;
      auto route = sites::route_within(in, site, {"GET", std::get<http::Target>(target)});
      auto* finding = std::get_if<Finding>(&route.outcome);
      const auto* const script = std::get_if<sites::ScriptFound>(&route.outcome);
      std::optional<Finding> beginning;
      if (script != nullptr && script->interpreter.empty()) beginning = judge_beginning(*script, in.search_path);
      if (beginning) finding = &*beginning;
      // Libraries and texts lie beside programs, and nobody asks for them.
      if (finding != nullptr && is_no_program(*finding, path)) continue;
      if (finding != nullptr) {
        check.findings.push_back(finding_in(std::move(*finding), path));
      } else {
        ++fine;
      }
    }
  }
  check.state = counted(fine, "can run", "can run");
  if (fine + check.findings.size() == 0) check.state = "none in a script folder";
  return check;
}

Check check_interpreters(const sites::ResolveContext& in) {
  Check check{"Interpreters", {}, {}};
  std::string missing;
  std::size_t found = 0;
  for (const script::Interpreter& interpreter : in.settings.interpreters) {
    if (!files::find_program(interpreter.program, in.search_path).empty()) {
      ++found;
    } else {
      missing += (missing.empty() ? "" : ", ") + interpreter.language;
    }
  }
  check.state = std::to_string(found) + " found" + (missing.empty() ? "" : "; not installed: " + missing);
  for (Finding& finding : body_contradictions(in.settings, in.search_path))
    check.findings.push_back(finding_in(std::move(finding), in.settings.file));
  return check;
}

Check check_access_log(const AccessLog& log) {
  Check check{"The access log", log.file, {}};
  const std::string folder(files::folder_of(log.file));
  const bool exists = ::access(log.file.c_str(), F_OK) == 0;
  if (::access(exists ? log.file.c_str() : folder.c_str(), W_OK) != 0)
    check.findings.push_back(finding_in({Code::log_unwritable,
                                         {{"file", log.file},
                                          {"folder_quoted", text::shell_word(folder)},
                                          {"reason", files::describe({errno})},
                                          {"lost", "0"}}},
                                        log.file));
  return check;
}

/// How an interpreter checks a script without running it: the words before the script's path.
struct SyntaxCheck {
  std::string_view program;
  std::vector<std::string> words;
};

const std::vector<SyntaxCheck>& syntax_checks() {
  // Python's modules are looked for as well; what stands in a try may be missing.
  static const std::string kPython =
      "import ast, importlib.util, os, sys\n"
      "p = sys.argv[1]\n"
      "sys.path.insert(0, os.path.dirname(os.path.abspath(p)))\n"
      "for n in ast.parse(open(p, 'rb').read(), p).body:\n"
      "  names = [a.name for a in n.names] if isinstance(n, ast.Import) else []\n"
      "  if isinstance(n, ast.ImportFrom) and n.level == 0: names = [n.module]\n"
      "  for name in names:\n"
      "    if importlib.util.find_spec(name.split('.')[0]) is None:\n"
      "      sys.exit('  File \"%s\", line %d\\nModuleNotFoundError: No module named \\'%s\\'' % (p, n.lineno, "
      "name))\n";
  static const std::vector<SyntaxCheck> kAll = {
      {"php-cgi", {"-d", "log_errors=1", "-d", "display_errors=0", "-l"}},
      {"perl", {"-c"}},
      {"ruby", {"-c"}},
      {"sh", {"-n"}},
      {"bash", {"-n"}},
      {"dash", {"-n"}},
      {"node", {"--check"}},
      {"python3", {"-c", kPython}},
      {"python", {"-c", kPython}},
  };
  return kAll;
}

/// Has the interpreter check the script; a finding if something is wrong with it.
asio::awaitable<std::optional<Finding>> check_syntax(run::RunSet& runs, const sites::ResolveContext& in,
                                                     const Site& site, const sites::ScriptFound& script,
                                                     const SyntaxCheck& how) {
  run::RunOrder order;
  order.program =
      script.interpreter.empty() ? files::find_program(std::string(how.program), in.search_path) : script.interpreter;
  order.arguments = how.words;
  order.arguments.insert(order.arguments.begin(), order.program);
  order.arguments.push_back(script.path);
  order.environment.add("PATH", in.search_path);
  order.folder = files::folder_of(script.path);
  auto started = run::Run::start(co_await asio::this_coro::executor, runs, std::move(order));
  if (std::holds_alternative<run::StartError>(started)) co_return std::nullopt;
  const auto process = std::get<std::shared_ptr<run::Run>>(started);
  auto reading = output_of(process);
  const std::string output = co_await std::move(reading);
  auto ending = process->end();
  const run::ProcessEnd end = co_await std::move(ending);
  script::RunReport report;
  report.path = script.path;
  report.document_root = site.document_root;
  report.command = run::command_by_hand(script);
  report.exit_status = end.exit_status;
  report.was_too_slow = process->was_too_slow();
  report.error_text = process->error_text().empty() ? output : process->error_text();
  if (end.exit_status.value_or(0) == 0) co_return std::nullopt;
  auto finding = script::judge_run(report);
  if (!finding) co_return std::nullopt;
  auto asking = with_package(runs, in.search_path, std::move(*finding));
  Finding told = co_await std::move(asking);
  co_return told;
}

/// Every script of the site, in its script folders and elsewhere, with the check that there is for it.
asio::awaitable<void> check_all_syntax(run::RunSet& runs, const sites::ResolveContext& in, const Site& site,
                                       Check& check) {
  std::size_t fine = 0;
  std::error_code error;
  const auto options = fs::directory_options::skip_permission_denied;
  for (fs::recursive_directory_iterator entry(site.document_root, options, error), end; !error && entry != end;
       entry.increment(error)) {
    const std::string path = entry->path().string();
    if (sites::is_hidden(site, files::base_name(path))) {
      if (entry->is_directory(error)) entry.disable_recursion_pending();
      continue;
    }
    if (!entry->is_regular_file(error)) continue;
    if (fine + check.findings.size() == kMostScripts) break;
    const http::Target target = http::target_of(path.substr(site.document_root.size()));
    auto route = sites::route_within(in, site, {"GET", target});
    const auto* const script = std::get_if<sites::ScriptFound>(&route.outcome);
    if (script == nullptr || script->path != path) continue;
    const std::string name = run::runner_of(*script).name;
    const auto& all = syntax_checks();
    const auto how = std::find_if(all.begin(), all.end(), [&](const SyntaxCheck& one) { return one.program == name; });
    if (how == all.end()) continue;
    auto checking = check_syntax(runs, in, site, *script, *how);
    auto finding = co_await std::move(checking);
    if (finding) check.findings.push_back(finding_in(std::move(*finding), path));
    fine += finding ? 0 : 1;
  }
  check.state = fine == 0 ? "no scripts to check" : counted(fine, "script is fine", "scripts are fine");
}

}  // namespace

std::vector<Check> examine_deeply(const Settings& settings, const std::string& search_path) {
  const sites::ResolveContext in{settings, search_path};
  std::vector<Check> out;
  for (const Site& site : settings.sites) {
    Check& check = out.emplace_back(Check{"The syntax of the scripts of \"" + site.name + "\"", {}, {}});
    asio::io_context context{1};
    run::RunSet runs(context.get_executor());
    asio::co_spawn(context, check_all_syntax(runs, in, site, check), [](const std::exception_ptr&) {});
    context.run();
  }
  return out;
}

std::vector<Check> examine(const Instance& instance, SettingsRead read, const std::string& search_path,
                           const Standing& standing) {
  const Settings& settings = read.settings;
  const sites::ResolveContext in{settings, search_path};
  std::vector<Check> out;
  if (!instance.settings.empty()) {
    const bool exists = ::access(instance.settings.c_str(), F_OK) == 0;
    out.push_back(
        {"The settings",
         instance.settings + (exists ? ", " + counted(settings.sites.size(), "site", "sites") : " (not there yet)"),
         std::move(read.problems)});
  }
  out.push_back(check_state(instance, standing));
  for (const Listener& listener : settings.listeners())
    out.push_back(check_address(settings, listener.address, standing));
  for (const Site& site : settings.sites) {
    if (site.document_root.empty()) continue;
    out.push_back(check_root(in, site));
    out.push_back(check_scripts(in, site));
  }
  if (auto names = check_names(settings)) out.push_back(std::move(*names));
  out.push_back(check_interpreters(in));
  if (!settings.access_log.file.empty()) out.push_back(check_access_log(settings.access_log));
  return out;
}

}  // namespace porter::machine
