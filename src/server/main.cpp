// uporterd: the server program. It is started by uporter, and says the same things when it is started by hand.
#include <fcntl.h>
#include <fmt/format.h>
#include <malloc.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#include <boost/asio/co_spawn.hpp>
#include <charconv>
#include <chrono>
#include <climits>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <iterator>
#include <memory>
#include <optional>
#include <string>
#include <variant>

#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/http/media_type.hpp"
#include "core/script/judge.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/foreign_rules.hpp"
#include "machine/php.hpp"
#include "machine/port_holder.hpp"
#include "machine/terminal.hpp"
#include "run/fresh/kin.hpp"
#include "server/api/control_socket.hpp"
#include "server/api/metrics_port.hpp"
#include "server/api/root_watch.hpp"
#include "server/api/steering.hpp"
#include "server/console/console.hpp"
#include "server/listen/manager_sockets.hpp"
#include "server/listen/service_manager.hpp"
#include "server/options.hpp"
#include "server/server.hpp"

namespace {

using namespace porter;
using namespace porter::server;
namespace fs = std::filesystem;

constexpr int kPortsTried = 100;

// Exit statuses, the same for uporterd and uporter.
constexpr int kPortTaken = 3;
constexpr int kAlreadyRunning = 4;
/// No exit status: somebody has asked for a restart.
constexpr int kReExec = -1;

int fail(int status, const std::string& sentence) {
  std::fputs((sentence + "\n").c_str(), stderr);
  return status;
}

int fail(int status, const Finding& finding) {
  return fail(status, text::escape_line(sentence_of(finding)) + " " + text::escape_lines(remedy_of(finding), "  "));
}

/// The document root without links; a finding if it is none.
std::variant<std::string, Finding> real_folder(const std::string& folder) {
  std::array<char, PATH_MAX> real{};
  struct stat info {};
  const std::vector<Fact> facts = {{"folder", folder}, {"folder_quoted", text::shell_word(folder)}};
  const auto closed = [&](int error) {
    Finding finding{Code::folder_closed, facts};
    finding.facts.emplace_back("reason", files::describe({error}));
    return finding;
  };
  if (::realpath(folder.c_str(), real.data()) == nullptr || ::stat(real.data(), &info) != 0) {
    if (errno == ENOENT) return Finding{Code::folder_missing, facts};
    return closed(errno);
  }
  if (!S_ISDIR(info.st_mode))
    return Finding{Code::folder_is_file,
                   {{"file", folder}, {"folder_quoted", text::shell_word(files::folder_of(real.data()))}}};
  if (::access(real.data(), R_OK | X_OK) != 0) return closed(errno);
  return std::string(real.data());
}

int explain_listen_error(const std::string& folder, const Address& address, ListenError error) {
  Finding finding = listen_finding(address, error);
  finding.facts.emplace_back("folder_quoted", text::shell_word(folder));
  const int other = error.number == EADDRINUSE && address.port < 65535 ? address.port + 1 : kUsualPort;
  finding.facts.emplace_back("other", std::to_string(other));
  return fail(error.number == EADDRINUSE ? kPortTaken : error.number == EACCES ? kBadUse : 1, finding);
}

/// Reads "NAME=NUMBER" into `limits`; false if it is nothing of the kind.
bool read_limit(const std::string& text, Limits& limits) {
  const std::size_t equals = text.find('=');
  std::uint64_t value = 0;
  const char* const end = text.data() + text.size();
  if (equals == std::string::npos) return false;
  const auto [stop, error] = std::from_chars(text.data() + equals + 1, end, value);
  return error == std::errc{} && stop == end && set_limit(limits, std::string_view(text).substr(0, equals), value);
}

void raise_file_limit() {
  rlimit limit{};
  if (::getrlimit(RLIMIT_NOFILE, &limit) != 0) return;
  limit.rlim_cur = limit.rlim_max;
  ::setrlimit(RLIMIT_NOFILE, &limit);
}

std::size_t thread_count(const Options& options) {
  return options.threads > 0 ? options.threads : std::max<std::size_t>(1, std::thread::hardware_concurrency());
}

std::chrono::nanoseconds since_begun(const Options& options) {
  const auto now = std::chrono::steady_clock::now().time_since_epoch();
  return now - (options.begun > 0 ? std::chrono::nanoseconds(options.begun) : now);
}

void fill(Shared& shared, Journal& journal, const machine::Instance& instance) {
  shared.supplies = machine::supplies();
  shared.pools.set_folder(instance.folder);
  shared.search_path = machine::search_path();
  shared.system_types = http::parse_type_list(files::content_of("/etc/mime.types").value_or(""));
  shared.journal = &journal;
  shared.pools.set_late_words([&journal](const run::PoolOrder& pool, pid_t process, const std::string& text) {
    constexpr std::size_t kMostLines = 20;
    const std::string who = std::string(files::base_name(pool.program)) + " (process " + std::to_string(process) + ")";
    for (const std::string& line : script::last_lines(text, kMostLines))
      journal.write_note(text::escape_line("          ! " + who + " after its response: " + line) + "\n");
  });
}

Colour colour() { return machine::wants_colour() ? Colour::on : Colour::off; }

/// Has the addresses reach as far as the options say, if they do: what names an IP address stays as it is.
void take_reach(const Options& options, Settings& settings) {
  if (!options.reach) return;
  const auto change = [&options](std::vector<Address>& addresses) {
    for (Address& address : addresses)
      if (address.reach != Address::Reach::one) address.reach = *options.reach;
  };
  change(settings.addresses);
  for (Site& site : settings.sites) change(site.addresses);
}

/// Sets the limits that options name; a sentence if one is wrong.
std::optional<std::string> take_limits(const Options& options, Limits& limits) {
  for (const std::string& limit : options.limits)
    if (!read_limit(limit, limits))
      return fmt::format("--limit {} is not NAME=NUMBER with one of the names {} and a number in its range.",
                         text::escape_line(limit), limit_names());
  return std::nullopt;
}

/// A server, and the ways by which it is controlled.
class Control {
 public:
  /// `steering` is null for a server that goes by no settings.
  Control(Server& server, const machine::Instance& instance, std::unique_ptr<Steering> steering)
      : steering_(std::move(steering)),
        api_(server, steering_ ? steering_->instance() : instance, steering_.get()),
        socket_(server, api_, instance.socket),
        console_(server, api_, instance),
        metrics_(server, api_),
        roots_(server.context(), [this, &server] { take_moved_roots(server); }) {
    api_.set_console(&console_);
    server.at_end([this] {
      if (steering_) steering_->close();
      roots_.close();
      socket_.close();
      console_.close();
      metrics_.close();
    });
    server.at_apply([this, &server](const Settings& settings) {
      if (const auto failed = metrics_.serve_at(settings.metrics))
        server.shared().journal->write_note("          " + sentence_of(*failed) + " " + remedy_of(*failed) + "\n");
      roots_.follow(settings);
      if (const auto failed = console_.serve_at(settings.console))
        server.shared().journal->write_note("          " + sentence_of(*failed) + " " + remedy_of(*failed) + "\n");
    });
  }

  /// Serves the console at `address`, and has `start` tell of it.
  void open_console(const std::optional<Address>& address, StartLines& start) {
    if (const auto failed = console_.serve_at(address))
      start.remarks.push_back(sentence_of(*failed) + " " + remedy_of(*failed));
    if (!console_.instead_of().empty()) start.remarks.push_back(console_.instead_of() + ".");
    start.console = console_.url();
  }

  /// Serves the metrics where `settings` want them, and has `start` tell where that fails.
  void open_metrics(const Settings& settings, StartLines& start) {
    if (const auto failed = metrics_.serve_at(settings.metrics))
      start.remarks.push_back(sentence_of(*failed) + " " + remedy_of(*failed));
  }

  std::optional<Finding> open(const Settings& settings) {
    auto failed = socket_.open();
    if (!failed && steering_) steering_->watch();
    roots_.follow(settings);
    return failed;
  }

 private:
  void take_moved_roots(Server& server) {
    if (!steering_) {
      server.apply(with_roots_as_they_are(server.snapshot().settings));
      return;
    }
    asio::co_spawn(server.context(), steering_->reload(), [](const std::exception_ptr&, const auto&) {});
  }

  std::unique_ptr<Steering> steering_;
  Api api_;
  ControlSocket socket_;
  Console console_;
  MetricsPort metrics_;
  RootWatch roots_;
};

/// Executes this program again, as it was started. Returns if that cannot be done, with an exit status.
int re_exec(int argc, char** argv) {
  ::alarm(0);  // The last resort of the end that is over now; it would outlast the exec.
  std::vector<char*> words;
  static std::string in_background = "--background";
  for (int i = 0; i < argc; ++i) {
    // Both are about one start alone, and have their value behind them.
    if (const std::string_view word = argv[i]; word == "--ready" || word == "--begun") {
      if (word == "--ready") words.push_back(in_background.data());
      ++i;
      continue;
    }
    words.push_back(argv[i]);
  }
  words.push_back(nullptr);
  // By its own path, so that it is called as before.
  std::error_code error;
  std::string own = fs::read_symlink("/proc/self/exe", error).string();
  // Another program lies there now, a newer one say.
  constexpr std::string_view kGone = " (deleted)";
  if (own.ends_with(kGone)) own.resize(own.size() - kGone.size());
  pass_manager_sockets_on();
  ::execv(own.c_str(), words.data());
  std::perror("The server cannot be restarted");
  return 1;
}

/// What is to be told once of what lies in the sites.
std::vector<std::string> remarks_on(const Settings& settings) {
  std::vector<std::string> out;
  for (const Address& address : settings.unused_addresses()) {
    const Finding unused{Code::address_unused, {{"address", address.text()}}};
    out.push_back(sentence_of(unused) + " " + remedy_of(unused));
  }
  for (const Site& site : settings.sites)
    if (const auto rules = machine::find_foreign_rules(site))
      out.push_back(sentence_of(*rules) + " " + remedy_of(*rules));
  return out;
}

/// Settings of nothing but the folder that `options` name, whose real path is `root`.
Settings settings_for(const Options& options, const std::string& root, const Address& address) {
  Site site;
  site.name = root.substr(root.rfind('/') + 1);
  if (site.name.empty()) site.name = "/";
  site.document_root = root;
  site.written_root = fs::absolute(options.folder).string();
  site.hosts = {"localhost", "*.localhost"};
  site.hosts.insert(site.hosts.end(), options.hosts.begin(), options.hosts.end());
  if (!options.fallback.empty()) site.fallbacks = {{"/", root, options.fallback, "/" + options.fallback}};
  Settings settings;
  settings.addresses = {address};
  settings.sites = {std::move(site)};
  return settings;
}

int serve_folder(const Options& options) {
  const auto found = real_folder(options.folder);
  if (const auto* const finding = std::get_if<Finding>(&found)) return fail(kBadUse, *finding);
  const std::string& root = std::get<std::string>(found);

  struct stat info {};
  const std::string fallback = root + "/" + options.fallback;
  if (!options.fallback.empty() && (::stat(fallback.c_str(), &info) != 0 || !S_ISREG(info.st_mode) ||
                                    ("/" + options.fallback + "/").find("/../") != std::string::npos))
    return fail(kBadUse, Finding{Code::settings_file_missing, {{"key", "--fallback"}, {"file", fallback}}});

  StartLines start;
  Address address{options.reach.value_or(Address::Reach::this_computer),
                  {},
                  options.port < 0 ? kUsualPort : static_cast<std::uint16_t>(options.port)};
  auto opened = options.port < 0 ? listen_from(address, kPortsTried) : listen_on(address);
  if (const auto* const error = std::get_if<ListenError>(&opened)) return explain_listen_error(root, address, *error);
  run::hold_kin();
  auto warden = run::start_warden(run::WardenIs::nobodys);
  if (options.port < 0 && address.port != kUsualPort) {
    const auto holder = machine::find_port_holder(kUsualPort);
    start.instead_of = fmt::format("{} is taken by {}, so {} is used", kUsualPort,
                                   holder ? machine::text_of(*holder) : "another program", address.port);
  }
  Settings settings = settings_for(options, root, address);
  if (const auto wrong = take_limits(options, settings.limits)) return fail(kBadUse, *wrong);

  if (!options.console.empty()) {
    AddressError error{};
    settings.console = options.console == "off" ? std::nullopt : parse_address(options.console, error);
    if (options.console != "off" && (!settings.console || !settings.console->is_local()))
      return fail(kBadUse, fmt::format("--console {} is neither off nor an address of this computer, such as "
                                       "localhost:8079.",
                                       text::escape_line(options.console)));
  }

  start.remarks = remarks_on(settings);
  Journal journal(STDOUT_FILENO, Journal::Keep::last, colour());
  Shared shared;
  const machine::Instance instance = machine::instance_for_folder(root);
  fill(shared, journal, instance);
  Server server(shared, settings, std::move(std::get<std::vector<ListeningSocket>>(opened)), thread_count(options));
  server.keep_warden(std::move(warden));
  server.forget_compiled();
  Control control(server, instance, nullptr);
  auto unsteered = machine::make_folders(instance);
  files::Descriptor lock;
  if (!unsteered) lock = machine::take_lock(instance);
  if (!unsteered) unsteered = control.open(server.snapshot().settings);
  if (!unsteered) control.open_console(server.snapshot().settings.console, start);
  // The folder is served all the same.
  if (unsteered) journal.write_note("          " + sentence_of(*unsteered) + " " + remedy_of(*unsteered) + "\n");
  start.ready_after = since_begun(options);
  start.settings = std::move(settings);
  start.stop = "Ctrl+C";
  start.shows_code = machine::wants_colour();
  server.run(std::move(start), Server::Hangup::stops, {});
  machine::remove_folder_instances(instance);
  return server.is_to_restart() ? kReExec : 0;
}

/// Opens the addresses of `settings`, taking over what the service manager has opened. On failure what is wrong is
/// shown, and the result is empty.
std::optional<std::vector<ListeningSocket>> open_addresses(const Settings& settings) {
  std::vector<ListeningSocket> entrances;
  // What the manager has opened is an listener, whether the settings name it or not.
  const std::vector<Endpoint> managed = keep_manager_sockets();
  for (const Endpoint& endpoint : managed)
    if (auto socket = wake_manager_socket(endpoint)) entrances.push_back({endpoint, std::move(*socket)});
  bool is_fine = true;
  for (const Listener& listener : settings.listeners()) {
    Address address = listener.address;
    auto opened = listen_on(address, managed);
    if (auto* const some = std::get_if<std::vector<ListeningSocket>>(&opened)) {
      std::move(some->begin(), some->end(), std::back_inserter(entrances));
    } else {
      const SettingsProblem problem{listen_finding(address, std::get<ListenError>(opened)), settings.file, 0, 0, {}};
      std::fputs(text_of(problem).c_str(), stderr);
      is_fine = false;
    }
  }
  if (!is_fine) return std::nullopt;
  return entrances;
}

int already_running(const machine::Instance& instance) {
  Finding finding{Code::already_running, {{"settings", instance.settings}, {"option", instance.option()}}};
  if (const pid_t holder = machine::lock_holder(instance).value_or(0); holder > 0)
    finding.facts.emplace_back("process", std::to_string(holder));
  return fail(kAlreadyRunning, finding);
}

/// Takes what tells of the holder out of a lock's file at the end.
class ClearedAtEnd {
 public:
  explicit ClearedAtEnd(const files::Descriptor& lock) : lock_(lock) {}
  ~ClearedAtEnd() {
    if (::ftruncate(lock_.get(), 0) != 0) std::perror("lock");
  }
  ClearedAtEnd(const ClearedAtEnd&) = delete;
  ClearedAtEnd& operator=(const ClearedAtEnd&) = delete;

 private:
  const files::Descriptor& lock_;
};

int serve_settings(const Options& options) {
  const machine::Instance running = machine::find_instance(options.settings);
  if (machine::lock_holder(running)) return already_running(running);
  const machine::Instance instance = machine::instance_for(options.settings);
  if (const auto wrong = machine::make_folders(instance)) return fail(1, *wrong);
  const files::Descriptor lock = machine::take_lock(instance);
  if (!lock.is_open()) return already_running(instance);
  // Whoever looks afterwards finds no server that was killed: it has ended by itself, whatever for.
  const ClearedAtEnd cleared(lock);
  SettingsRead read = machine::read_settings_file(instance.settings);
  if (!read.problems.empty()) {
    for (const SettingsProblem& problem : read.problems) std::fputs(text_of(problem).c_str(), stderr);
    return kBadUse;
  }
  if (const auto wrong = take_limits(options, read.settings.limits)) return fail(kBadUse, *wrong);
  take_reach(options, read.settings);
  auto entrances = open_addresses(read.settings);
  if (!entrances) return kPortTaken;
  run::hold_kin();
  auto warden = run::start_warden(run::WardenIs::nobodys);

  Journal journal(STDOUT_FILENO, Journal::Keep::last, colour());
  Shared shared;
  fill(shared, journal, instance);
  StartLines start;
  start.settings = read.settings;
  start.remarks = remarks_on(read.settings);
  for (const SettingsProblem& problem : read.standing)
    start.remarks.push_back(sentence_of(problem.finding) + " " + remedy_of(problem.finding));
  Server server(shared, std::move(read.settings), std::move(*entrances), thread_count(options));
  server.keep_warden(std::move(warden));
  server.forget_compiled();
  const auto override_by_options = [&options](Settings& settings) {
    take_limits(options, settings.limits);
    take_reach(options, settings);
  };
  Control control(
      server, instance,
      std::make_unique<Steering>(server, instance, std::move(read.text), read.standing, override_by_options));
  if (const auto wrong = control.open(server.snapshot().settings)) return fail(1, *wrong);
  control.open_console(server.snapshot().settings.console, start);
  control.open_metrics(server.snapshot().settings, start);
  const bool in_background = options.ready >= 0 || options.in_background || has_waiting_manager();
  start.ready_after = since_begun(options);
  start.stop = in_background ? "uporter stop" + instance.option() : "Ctrl+C";
  start.shows_code = !in_background && machine::wants_colour();
  const int ready = options.ready;
  server.run(std::move(start), in_background ? Server::Hangup::reopens_logs : Server::Hangup::stops, [ready] {
    tell_manager_ready();
    if (ready >= 0 && ::write(ready, "ready\n", 6) == 6) ::close(ready);
  });
  return_manager_sockets();
  return server.is_to_restart() ? kReExec : 0;
}

}  // namespace

int main(int argc, char** argv) {
  Options options;
  if (const auto status = read_options(argc, argv, options)) return *status;
  // Few, long-lived allocations per thread: separate arenas would only keep memory that nobody uses.
  ::mallopt(M_ARENA_MAX, 4);
  ::signal(SIGPIPE, SIG_IGN);
  raise_file_limit();
  const int status = options.settings.empty() ? serve_folder(options) : serve_settings(options);
  return status == kReExec ? re_exec(argc, argv) : status;
}
