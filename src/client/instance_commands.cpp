// Starting, stopping and watching the server of a settings file.
#include "client/instance_commands.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstring>
#include <thread>

#include "client/control_client.hpp"
#include "client/output.hpp"
#include "client/serve.hpp"
#include "client/servers.hpp"
#include "client/site_commands.hpp"
#include "core/files/pipe.hpp"
#include "core/findings/finding_json.hpp"
#include "core/http/target.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/instance.hpp"
#include "machine/network_urls.hpp"
#include "machine/php.hpp"
#include "run/process.hpp"

namespace porter::client {
namespace {

using Json = nlohmann::json;
using Clock = std::chrono::steady_clock;

constexpr std::chrono::seconds kStartTime{20};
constexpr std::chrono::seconds kStopTime{30};
constexpr std::chrono::seconds kPatience{2};
constexpr std::chrono::seconds kPatienceForStop{10};
constexpr std::chrono::seconds kGraceAfterTerm{8};
constexpr std::chrono::milliseconds kLookEvery{20};
/// The status of a call that was refused since the settings have mistakes.
constexpr int kMistaken = 409;
constexpr off_t kLargeLog = 1024 * 1024;

/// The process of a running server, held by itself and not by its number, so that no other one can be meant.
class ServerProcess {
 public:
  /// The server that holds the lock; with a process of 0 if none does, or if it cannot be told which.
  static ServerProcess of(const machine::Instance& instance) {
    ServerProcess server;
    const pid_t process = machine::lock_holder(instance).value_or(0);
    if (process <= 0) return server;
    server.handle_.reset(static_cast<int>(::syscall(SYS_pidfd_open, process, 0)));
    // The number may have passed to another process before it was opened.
    if (server.handle_.is_open() && machine::lock_holder(instance) == process) server.process_ = process;
    return server;
  }

  /// 0: none.
  pid_t process() const { return process_; }
  void signal(int number) const {
    if (process_ > 0) ::syscall(SYS_pidfd_send_signal, handle_.get(), number, nullptr, 0);
  }
  /// Waits until it has ended; false: `time` is over.
  bool has_ended_within(std::chrono::milliseconds time) const {
    pollfd poll{handle_.get(), POLLIN, 0};
    return process_ <= 0 || ::poll(&poll, 1, static_cast<int>(time.count())) > 0;
  }

 private:
  files::Descriptor handle_;
  pid_t process_ = 0;
};

/// Waits until the holder of the lock can be told: a server that is just starting writes its name a moment after taking
/// it. A process of 0: none holds it any more, or it cannot be told.
ServerProcess wait_for_server(const machine::Instance& instance) {
  const auto end = Clock::now() + kPatience;
  for (;;) {
    ServerProcess server = ServerProcess::of(instance);
    if (server.process() > 0 || !machine::lock_holder(instance) || Clock::now() > end) return server;
    std::this_thread::sleep_for(kLookEvery);
  }
}

/// Asks a server that may just be starting: it has the lock before it has its control socket. Status 0: it does not
/// answer within `time`, or has ended.
Reply ask_patiently(const machine::Instance& instance, const std::string& method, const std::string& target,
                    std::chrono::milliseconds time) {
  const auto end = Clock::now() + time;
  for (;;) {
    Reply reply = ask(instance, method, target);
    if (reply.status != 0 || Clock::now() > end || !machine::lock_holder(instance)) return reply;
    std::this_thread::sleep_for(kLookEvery);
  }
}

/// Asks the running server; prints why not if that is not possible.
std::optional<Reply> ask_running(const machine::Instance& instance, const std::string& method,
                                 const std::string& target) {
  if (!machine::lock_holder(instance)) {
    fail(not_running(instance));
    return std::nullopt;
  }
  Reply reply = ask_patiently(instance, method, target, kPatience);
  if (reply.status == 0) {
    fail(unreachable(instance, reply.body.get<std::string>()));
    return std::nullopt;
  }
  return reply;
}

/// How other devices reach the sites, where they do.
void print_network_urls(const Json& sites) {
  bool is_first = true;
  std::string not_reached;
  for (const Json& site : sites) {
    for (const Json& url : site.value("network_urls", Json::array())) {
      fmt::print("  {:<11}  {}  {}\n", is_first ? "Network" : "", url.get<std::string>(), shown(site["name"]));
      is_first = false;
    }
    if (!site.contains("network_urls")) not_reached = shown(site["name"]);
  }
  if (!is_first && !not_reached.empty())
    print_wrapped(fmt::format("  {:<11}  {} is reached by other devices once it has a port of its own: uporter site "
                              "change {} --reach network\n",
                              "", not_reached, not_reached),
                  15);
}

void print_sites(const Json& sites) {
  std::size_t widest = 0;
  std::size_t widest_url = 0;
  for (const Json& site : sites) {
    widest = std::max(widest, site["name"].get<std::string>().size());
    widest_url = std::max(widest_url, site["url"].get<std::string>().size());
  }
  bool is_first = true;
  for (const Json& site : sites) {
    fmt::print("  {:<11}  {:<{}}  {}{:<{}}{}  {}{}\n", is_first ? "Sites" : "", shown(site["name"]), widest,
               paint().bold, site["url"].get<std::string>(), widest_url, paint().plain, shown(site["folder"]),
               site.value("until_stop", false) ? " (until the server stops)" : "");
    for (const Json& mount : site["mounts"])
      fmt::print("  {:<11}  {:<{}}  {:<{}}  {}\n", "", "", widest, "  " + shown(mount["path"]), widest_url,
                 shown(mount["target"]));
    is_first = false;
  }
  if (sites.empty()) fmt::print("  {:<11}  none yet; add one: uporter site add NAME FOLDER\n", "Sites");
  print_network_urls(sites);
}

/// The interpreters that are kept, a line for each site.
void print_pools(const Json& now) {
  if (!now.contains("pools")) return;
  bool is_first = true;
  for (const Json& pool : now["pools"]) {
    std::string said;
    for (const Json& address : pool["external"]) said += (said.empty() ? "external " : ", ") + shown(address);
    if (said.empty())
      said = fmt::format("{} of {} processes, {} idle", pool["processes"].get<int>(), pool["most"].get<int>(),
                         pool["idle"].get<int>());
    if (const auto waiting = pool["waiting"].get<std::uint64_t>(); waiting > 0)
      said += fmt::format(", {} requests wait", waiting);
    fmt::print("  {:<11}  {:<16}  {}\n", is_first ? "Pools" : "",
               shown(pool["language"]) + " of " + shown(pool["site"]),
               said + fmt::format(", {} runs", pool["runs"].get<std::uint64_t>()));
    is_first = false;
  }
}

void print_runs(const Json& runs) {
  const auto number = [&runs](const char* name) { return runs[name].get<long>(); };
  fmt::print("  Scripts      {} running, limit {}", number("running"), number("most"));
  if (number("streaming") > 0) fmt::print(", {} streaming", number("streaming"));
  fmt::print("{}\n", number("waiting") > 0 ? fmt::format(", {} waiting", number("waiting")) : "");
  for (const Json& run : runs["now"])
    fmt::print("  {:<11}  {}  {} of {}, for {}, process {}\n", "", shown(run["script"]),
               run["streams"].get<bool>() ? "streaming" : "running", shown(run["site"]),
               text::format_span(std::chrono::seconds(run["seconds"].get<long>())), run["process"].get<long>());
}

void print_status(const Json& now) {
  const std::string state = now["state"];
  fmt::print("{}Upright Porter {}{} {} (process {})\n\n", state == "paused" ? paint().warn : paint().good,
             state == "stopping" ? "is stopping after"
             : state == "paused" ? "is paused, and has been running for"
                                 : "has been running for",
             paint().plain, text::format_span(std::chrono::seconds(now["uptime_seconds"].get<long long>())),
             now["process"].get<long>());
  const bool has_settings = !now["settings"].get<std::string>().empty();
  fmt::print("  {:<11}  {}\n", has_settings ? "Settings" : "Folder", shown(now[has_settings ? "settings" : "folder"]));
  bool is_first = true;
  for (const Json& address : now["addresses"]) {
    std::string names;
    for (const Json& name : address["sites"]) names += (names.empty() ? "" : ", ") + name.get<std::string>();
    fmt::print("  {:<11}  {:<16}  {}\n", is_first ? "Addresses" : "", address["address"].get<std::string>(),
               names.empty() ? "no site; a start page answers" : names);
    is_first = false;
  }
  print_sites(now["sites"]);
  if (const std::string console = now.value("console", ""); !console.empty())
    fmt::print("  Console      {}\n", console);
  std::string languages;
  for (const Json& interpreter : now["interpreters"]) {
    if (interpreter["path"].get<std::string>().empty()) continue;
    const std::string version = interpreter["version"].get<std::string>();
    languages += (languages.empty() ? "" : ", ") + interpreter["language"].get<std::string>() +
                 (version.empty() ? "" : " " + version);
    if (const std::string site = interpreter.value("site", ""); !site.empty()) languages += " for " + site;
  }
  print_wrapped("  Languages    " + (languages.empty() ? "" : languages + ", ") + "compiled programs\n", 15);
  print_pools(now);
  print_runs(now["runs"]);
  const long long requests = now["requests"].get<long long>();
  const long connections = now["connections"].get<long>();
  fmt::print("  Traffic      {} {}, {} {} answered\n", connections, connections == 1 ? "connection" : "connections",
             requests, requests == 1 ? "request" : "requests");
  if (const std::string log = shown(now["log"]); !log.empty()) fmt::print("  Server log   {}\n", log);
  if (const std::string access = now["access_log"].get<std::string>(); !access.empty())
    fmt::print("  Access log   {}\n", text::escape_line(access));
  if (now["findings"].empty()) {
    fmt::print("  Findings     none\n");
  } else {
    fmt::print("\n{}Findings{}\n", paint().warn, paint().plain);
    for (const Json& finding : now["findings"]) fmt::print("{}", finding["text"].get<std::string>());
  }
}

/// What a server says of itself, for people or for programs.
void show_status(const Json& now) { is_json_wanted() ? print_json(now) : print_status(now); }

/// The part of the log that was written since it had `from` bytes.
std::string log_since(const std::string& path, off_t from) {
  const files::Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
  std::string out;
  std::array<char, 4096> buffer{};
  for (off_t at = from; file.is_open();) {
    const ssize_t got = ::pread(file.get(), buffer.data(), buffer.size(), at);
    if (got <= 0) break;
    out.append(buffer.data(), static_cast<std::size_t>(got));
    at += got;
  }
  return out;
}

/// Starts uporterd in a session of its own; `ready` can be read once it answers or has ended.
std::variant<pid_t, run::StartError> start_server(const machine::Instance& instance, const std::string& reach, int log,
                                                  files::Descriptor& ready) {
  files::Pipe pipe;
  if (!files::make_pipe(pipe)) return run::StartError{run::StartError::Step::resources, errno};
  ready = std::move(pipe.read_end);
  const files::Descriptor writer = std::move(pipe.write_end);
  constexpr int kReady = 3;
  run::StartOrder order;
  order.program = server_program();
  order.arguments = {order.program, "--settings", instance.named, "--ready", std::to_string(kReady)};
  if (!reach.empty()) order.arguments.insert(order.arguments.end(), {"--reach", reach});
  order.environment = script::Environment(machine::own_environment());
  order.folder = current_folder();
  order.output = order.error = log;
  order.also = {writer.get(), kReady};
  // Closing the terminal, or Ctrl+C in it, is not meant for the server.
  order.leads = run::StartOrder::Leads::session;
  return run::start_process(std::move(order));
}

/// True once the server has told that it answers; false: it has ended, or `time` is over.
bool wait_until_ready(int ready, std::chrono::milliseconds time) {
  pollfd poll{ready, POLLIN, 0};
  std::array<char, 8> text{};
  return ::poll(&poll, 1, static_cast<int>(time.count())) > 0 && ::read(ready, text.data(), text.size()) > 0;
}

/// What asking a server that holds the lock has come to, before another one is started.
enum class Present { none, answers, silent };

/// Tells of the server that runs already; one that is stopping is waited for.
Present look_at_present(const machine::Instance& instance) {
  const auto end = Clock::now() + kStartTime;
  while (machine::lock_holder(instance) && Clock::now() < end) {
    const ServerProcess server = wait_for_server(instance);
    const Reply reply = ask_patiently(instance, "GET", "/v1/status", kStartTime);
    const bool is_stopping = reply.status == 200 && reply.body.value("state", "") == "stopping";
    if (reply.status == 200 && !is_stopping) {
      if (!is_json_wanted()) fmt::print("It runs already.\n\n");
      show_status(reply.body);
      return Present::answers;
    }
    if (is_stopping) server.has_ended_within(kStopTime);
    std::this_thread::sleep_for(kLookEvery);
  }
  return machine::lock_holder(instance) ? Present::silent : Present::none;
}

/// Tells how a start went that has not come to an answering server.
int explain_failed_start(const machine::Instance& instance, pid_t id, off_t log_before, const std::string& settings) {
  int status = 0;
  if (::waitpid(id, &status, WNOHANG) == 0) {
    // The end of the pipe may come a moment before that of the process.
    std::this_thread::sleep_for(std::chrono::milliseconds(200));
    if (::waitpid(id, &status, WNOHANG) == 0)
      return fail(fmt::format("The server (process {}) has not answered within {} s. See its log: {}", id,
                              kStartTime.count(), text::shell_word(instance.log)));
  }
  // Somebody else was faster by a moment; then what was wanted is so.
  if (WIFEXITED(status) && WEXITSTATUS(status) == kAlreadyRunning) return run_start(settings);
  std::string said = log_since(instance.log, log_before);
  if (said.ends_with('\n')) said.pop_back();
  if (!said.empty()) fail(said);
  const bool was_stopped =
      (WIFEXITED(status) && WEXITSTATUS(status) == 0) || (WIFSIGNALED(status) && WTERMSIG(status) == SIGTERM);
  if (was_stopped) return fail("The server was stopped while it was starting.");
  return fail("The server was not started.", WIFEXITED(status) ? WEXITSTATUS(status) : kFailed);
}

/// Stops the server of `instance`, if it runs. What it has done is told to people alone.
int stop(const machine::Instance& instance) {
  if (!machine::lock_holder(instance)) {
    if (!is_json_wanted()) fmt::print("No server runs for {}.\n", text::escape_line(instance.subject()));
    return kFine;
  }
  const ServerProcess server = wait_for_server(instance);
  if (server.process() == 0 && machine::lock_holder(instance))
    return fail(unreachable(instance, "it cannot be told which process it is"));
  // One that is just starting opens its control socket in a moment. A server that another start has brought since is
  // not meant, so whether this one has ended is asked of its own process.
  constexpr std::chrono::milliseconds kNow{0};
  const auto end = Clock::now() + kPatienceForStop;
  bool is_told = false;
  while (!is_told && !server.has_ended_within(kNow) && Clock::now() < end) {
    is_told = machine::lock_holder(instance) == server.process() && ask(instance, "POST", "/v1/stop").status != 0;
    if (!is_told) server.has_ended_within(kLookEvery);
  }
  if (!is_told && !server.has_ended_within(kNow)) {
    // It does not listen any more; the signals of old still reach it.
    server.signal(SIGTERM);
    if (!server.has_ended_within(kGraceAfterTerm)) server.signal(SIGKILL);
  }
  if (!server.has_ended_within(kStopTime))
    return fail(fmt::format("The server (process {0}) has not ended within {1} s. End it: kill -9 {0}",
                            server.process(), kStopTime.count()));
  if (!is_json_wanted()) fmt::print("Stopped: the server of {}\n", text::escape_line(instance.subject()));
  return kFine;
}

/// Tells that nothing runs that `instance` could be.
int tell_stopped(const machine::Instance& instance) {
  if (is_json_wanted()) {
    print_json({{"state", "stopped"}, {"settings", text::to_utf8(instance.settings)}});
  } else {
    fmt::print("{}Upright Porter is not running{} for {}\nStart it: uporter start{}\n", paint().warn, paint().plain,
               text::escape_line(instance.settings), instance.option());
  }
  return kFailed;
}

}  // namespace

int run_start(const std::string& settings, const std::string& reach, Told told) {
  const machine::Instance present = machine::find_instance(settings);
  switch (look_at_present(present)) {
    case Present::answers:
      return kFine;
    case Present::silent:
      return fail(unreachable(present, "its control socket is silent"));
    case Present::none:
      break;
  }
  const machine::Instance instance = machine::instance_for(present.named);
  if (const auto wrong = machine::make_folders(instance)) return fail(*wrong);
  struct stat info {};
  if (::stat(instance.log.c_str(), &info) == 0 && info.st_size > kLargeLog)
    ::rename(instance.log.c_str(), (instance.log + ".old").c_str());
  const files::Descriptor log(::open(instance.log.c_str(), O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC, 0600));
  if (!log.is_open())
    return fail(
        fmt::format("The log {} cannot be written: {}.", text::escape_line(instance.log), std::strerror(errno)));
  const off_t before = ::lseek(log.get(), 0, SEEK_END);
  files::Descriptor ready;
  const auto started = start_server(instance, reach, log.get(), ready);
  if (const auto* const error = std::get_if<run::StartError>(&started))
    return fail(fmt::format("The server program {} cannot be started: {}. It must lie beside uporter.",
                            server_program(), std::strerror(error->number)));
  if (!wait_until_ready(ready.get(), kStartTime))
    return explain_failed_start(instance, std::get<pid_t>(started), before, settings);
  const Reply reply = ask_patiently(instance, "GET", "/v1/status", kPatience);
  if (told == Told::nothing && reply.status == 200) return kFine;
  if (reply.status == 200) {
    show_status(reply.body);
    tell_of_variables();
  } else {
    if (is_json_wanted()) print_json({{"state", "stopped"}});
    if (!is_json_wanted()) fmt::print("Started, and stopped again by somebody else since.\n");
  }
  return kFine;
}

int run_stop(const ServerChoice& meant) {
  const auto found = found_or_told(find_server(meant));
  if (!found) return kFailed;
  const int status = stop(*found);
  if (status == kFine && is_json_wanted()) print_json({{"state", "stopped"}});
  return status;
}

int run_restart(const std::string& settings) {
  // What would not start again is not stopped.
  const machine::Instance instance = machine::find_instance(settings);
  const SettingsRead read = machine::read_settings_file(instance.settings);
  if (!read.problems.empty()) {
    fail(read.problems);
    const bool runs = machine::lock_holder(instance).has_value();
    return fail(runs ? "The server goes on as it was, with the settings that it has." : "No server was started.",
                kBadUse);
  }
  const int status = stop(machine::find_instance(settings));
  return status == kFine ? run_start(settings) : status;
}

int run_status(const ServerChoice& meant, Codes codes) {
  const auto found = found_or_told(find_server(meant));
  if (!found) return kFailed;
  const machine::Instance& instance = *found;
  if (!machine::lock_holder(instance)) return tell_stopped(instance);
  const auto reply = ask_running(instance, "GET", "/v1/status");
  if (!reply) return kFailed;
  show_status(reply->body);
  if (codes == Codes::shown && !is_json_wanted())
    for (const Json& site : reply->body["sites"])
      if (site.contains("network_code"))
        fmt::print("\n  {}\n{}", site["network_urls"][0].get<std::string>(),
                   machine::qr_code_text(site["network_code"].get<std::vector<std::string>>(), 2));
  return reply->body.value("findings", Json::array()).empty() ? kFine : kFailed;
}

int run_status_of_all() {
  const auto all = running_servers();
  Json out = Json::array();
  for (const RunningServer& server : all)
    out.push_back(server.status.is_object() ? server.status
                                            : Json({{"state", "silent"},
                                                    {"settings", text::to_utf8(server.instance.settings)},
                                                    {"folder", text::to_utf8(server.instance.root)}}));
  if (is_json_wanted()) {
    print_json({{"servers", std::move(out)}});
  } else if (all.empty()) {
    fmt::print("No server of yours runs.\n");
  }
  for (std::size_t i = 0; !is_json_wanted() && i < all.size(); ++i) {
    if (i > 0) fmt::print("\n");
    if (all[i].status.is_object()) {
      print_status(all[i].status);
    } else {
      fail(unreachable(all[i].instance, "its control socket is silent"));
    }
  }
  return all.empty() ? kFailed : kFine;
}

int run_reload(const ServerChoice& meant) {
  const auto found = found_or_told(find_server(meant));
  if (!found) return kFailed;
  const machine::Instance& instance = *found;
  const auto reply = ask_running(instance, "POST", "/v1/reload");
  if (!reply) return kFailed;
  if (reply->status != 200) {
    fail_with(reply->body);
    if (instance.settings.empty()) return kFailed;
    return fail("The settings were not applied; the server goes on as before.",
                reply->status == kMistaken ? kBadUse : kFailed);
  }
  if (is_json_wanted()) {
    print_json(reply->body);
  } else {
    fmt::print("Applied: {}\n", text::escape_line(instance.settings));
  }
  return kFine;
}

namespace {

/// Has the server that is meant do `what`, and prints `done` then.
int change_state(const ServerChoice& meant, const std::string& what, const std::string& done) {
  const auto found = found_or_told(find_server(meant));
  if (!found) return kFailed;
  const auto reply = ask_running(*found, "POST", "/v1/" + what);
  if (!reply) return kFailed;
  if (reply->status != 200) {
    fail_with(reply->body);
    return kFailed;
  }
  if (is_json_wanted()) {
    print_json(reply->body);
  } else {
    fmt::print("{}{}\n", done, found->option());
  }
  return kFine;
}

}  // namespace

int run_pause(const ServerChoice& meant) {
  return change_state(meant, "pause",
                      "Paused. Sites are offline; the console is still available. To go on: uporter resume");
}

int run_resume(const ServerChoice& meant) {
  return change_state(meant, "resume", "Answering again. See where: uporter status");
}

int run_log(const ServerChoice& meant, const LogOptions& options) {
  const auto found = found_or_told(find_server(meant));
  if (!found) return kFailed;
  const machine::Instance& instance = *found;
  if (!machine::lock_holder(instance)) return fail(not_running(instance));
  if (!knows_site(instance, options.site)) return kBadUse;
  std::string target = fmt::format("/v1/log?limit={}", options.lines);
  if (options.follow) target += "&follow=true";
  if (options.errors) target += "&errors=true";
  if (!options.site.empty()) target += "&site=" + http::percent_encode(options.site);
  const bool asked = ask_for_lines(instance, target, [&options](const Json& line) {
    if (!line.is_object()) return true;
    if (is_json_wanted()) {
      print_json_line(line);
      std::fflush(stdout);
      return std::ferror(stdout) == 0;
    }
    const int status = line.value("status", 200);
    const std::string& colour = status >= 500 || status == 0 ? paint().bad
                                : status >= 400              ? paint().warn
                                                             : std::string();
    constexpr std::size_t kBelowStatus = 14;
    print_wrapped(colour + line.value("text", "") + (colour.empty() ? "" : paint().plain) + "\n", kBelowStatus);
    std::fflush(stdout);
    return std::ferror(stdout) == 0;
  });
  return asked ? kFine : fail(unreachable(instance, "its control socket cannot be reached"));
}

int run_check(const std::string& named) {
  if (!exists_if_named(named)) return kBadUse;
  const std::string file = machine::find_settings_file(named);
  const SettingsRead read = machine::read_settings_file(file);
  if (!read.text && read.problems.empty()) return fail(no_settings_file(file));
  std::vector<SettingsProblem> all = read.problems;
  all.insert(all.end(), read.standing.begin(), read.standing.end());
  std::vector<Finding> notes;
  if (all.empty()) notes = machine::body_contradictions(read.settings, machine::search_path());
  for (const Address& address : read.settings.unused_addresses())
    notes.push_back({Code::address_unused, {{"address", address.text()}}});
  // A folder that is not there now is no mistake: the settings are gone by.
  const int status = !read.problems.empty() ? kBadUse : all.empty() ? kFine : kFailed;
  if (is_json_wanted()) {
    print_json({{"file", text::to_utf8(file)},
                {"valid", read.problems.empty()},
                {"sites", read.settings.sites.size()},
                {"addresses", read.settings.listeners().size()},
                {"findings", json_of(all)},
                {"notes", json_of(notes)}});
    return status;
  }
  if (!all.empty()) {
    fail(all);
    return fail(
        fmt::format("{} {} in {}", all.size(), all.size() == 1 ? "problem" : "problems", text::escape_line(file)),
        status);
  }
  fmt::print("{} is fine: {} {}, {} {}.\n", text::escape_line(file), read.settings.sites.size(),
             read.settings.sites.size() == 1 ? "site" : "sites", read.settings.listeners().size(),
             read.settings.listeners().size() == 1 ? "address" : "addresses");
  for (const Finding& note : notes)
    print_wrapped(
        text::escape_line(sentence_of(note)) + "\n  What to do: " + text::escape_lines(remedy_of(note), "    ") + "\n",
        4);
  return kFine;
}

}  // namespace porter::client
