// uporterd: the server program. It is started by uporter, and says the same things when it is started by hand.
#include <fcntl.h>
#include <fmt/format.h>
#include <malloc.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <charconv>
#include <chrono>
#include <climits>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <fstream>
#include <sstream>
#include <string>

#include "core/files/beneath.hpp"
#include "core/http/media_type.hpp"
#include "core/text/text.hpp"
#include "run/environment.hpp"
#include "run/port_holder.hpp"
#include "run/warden.hpp"
#include "server/server.hpp"

namespace {

using namespace porter;
using namespace porter::server;

constexpr std::uint16_t kUsualPort = 8080;
constexpr int kPortsTried = 100;

// Exit statuses, the same for uporterd and uporter.
constexpr int kBadUse = 2;
constexpr int kPortTaken = 3;

struct Options {
  std::string folder = ".";
  int port = -1;  ///< -1: none was asked for.
  Reach reach = Reach::this_computer;
  std::vector<std::string> hosts;
  std::size_t threads = 0;          ///< 0: one for each core.
  std::vector<std::string> limits;  ///< "NAME=NUMBER" each.
  long long begun = 0;  ///< When the client was started, in nanoseconds of the monotonic clock; 0: just now.
};

int fail(int status, const std::string& sentence) {
  std::fputs((sentence + "\n").c_str(), stderr);
  return status;
}

/// The document root without links; on failure a sentence in `problem`.
std::string real_folder(const std::string& folder, std::string& problem) {
  const std::string shown = text::escape_line(folder);
  std::array<char, PATH_MAX> real{};
  struct stat info {};
  if (::realpath(folder.c_str(), real.data()) == nullptr || ::stat(real.data(), &info) != 0) {
    const int error = errno;
    problem = error == ENOENT
                  ? fmt::format("There is no folder {}. Make it first: mkdir -p {}", shown, text::shell_word(folder))
                  : fmt::format("The folder {} cannot be opened: {}.", shown, files::describe({error}));
  } else if (!S_ISDIR(info.st_mode)) {
    problem =
        fmt::format("{} is a file, not a folder. Serve the folder that it lies in: uporter serve {}", shown,
                    text::shell_word(std::string(real.data()).substr(0, std::string(real.data()).rfind('/') + 1)));
  } else if (::access(real.data(), R_OK | X_OK) != 0) {
    problem = fmt::format("The folder {} may not be read. Allow it: chmod u+rx {}", shown, text::shell_word(folder));
  }
  return real.data();
}

std::string holder_text(std::uint16_t port) {
  const auto holder = run::find_port_holder(port);
  if (!holder) return "another program";
  return fmt::format("{} (process {})", text::escape_line(holder->name), holder->id);
}

int explain_listen_error(int error, int port) {
  if (error == EADDRINUSE)
    return fail(kPortTaken,
                fmt::format("Port {} is taken by {}. Use another one: uporter serve --port {}", port,
                            holder_text(static_cast<std::uint16_t>(port)), port < 65535 ? port + 1 : kUsualPort));
  if (error == EACCES)
    return fail(kBadUse, fmt::format("Port {} is below 1024, and only the administrator may use it. Use a higher one: "
                                     "uporter serve --port {}",
                                     port, kUsualPort));
  return fail(1, fmt::format("Port {} cannot be opened: {}.", port, files::describe({error})));
}

std::string file_text(const char* path) {
  std::ifstream file(path);
  std::ostringstream text;
  text << file.rdbuf();
  return text.str();
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

Colour wanted_colour() {
  const char* const no_color = std::getenv("NO_COLOR");
  if (no_color != nullptr && *no_color != '\0') return Colour::off;
  return ::isatty(STDOUT_FILENO) == 1 ? Colour::on : Colour::off;
}

void raise_file_limit() {
  rlimit limit{};
  if (::getrlimit(RLIMIT_NOFILE, &limit) != 0) return;
  limit.rlim_cur = limit.rlim_max;
  ::setrlimit(RLIMIT_NOFILE, &limit);
}

int serve(const Options& options) {
  std::string problem;
  const std::string root = real_folder(options.folder, problem);
  if (!problem.empty()) return fail(kBadUse, problem);

  StartLines start;
  auto opened = options.port < 0 ? listen_from(kUsualPort, kPortsTried, options.reach)
                                 : listen_on(static_cast<std::uint16_t>(options.port), options.reach);
  if (const auto* const error = std::get_if<ListenError>(&opened))
    return explain_listen_error(error->number, options.port < 0 ? kUsualPort : options.port);
  auto& listening = std::get<Listening>(opened);
  run::start_warden();
  start.port = listening.port;
  if (options.port < 0 && listening.port != kUsualPort)
    start.instead_of = fmt::format("{} is taken by {}, so {} is used", kUsualPort, holder_text(kUsualPort), start.port);

  auto settings = std::make_shared<Settings>();
  settings->site.name = root.substr(root.rfind('/') + 1);
  settings->site.document_root = root;
  settings->site.hosts = options.hosts;
  for (const std::string& limit : options.limits) {
    if (!read_limit(limit, settings->limits))
      return fail(kBadUse,
                  fmt::format("--limit {} is not NAME=NUMBER with one of the names {} and a number in its range.",
                              text::escape_line(limit), limit_names()));
  }
  settings->search_path = run::search_path();

  Journal journal(STDOUT_FILENO);
  Shared shared;
  shared.passed_on = run::passed_on();
  const std::size_t cores = std::max<std::size_t>(1, std::thread::hardware_concurrency());
  const std::size_t runs = settings->limits.runs > 0 ? settings->limits.runs : 2 * cores;
  shared.gate = std::make_shared<run::Gate>(runs, settings->limits.queue);
  shared.settings = std::move(settings);
  shared.system_types = http::parse_type_list(file_text("/etc/mime.types"));
  shared.journal = &journal;
  shared.colour = wanted_colour();
  Server server(shared, std::move(listening), options.threads > 0 ? options.threads : cores);

  const auto now = std::chrono::steady_clock::now().time_since_epoch();
  start.ready_after = now - (options.begun > 0 ? std::chrono::nanoseconds(options.begun) : now);
  start.document_root = root;
  start.reach = options.reach;
  server.run(std::move(start));
  return 0;
}

}  // namespace

int main(int argc, char** argv) {
  Options options;
  CLI::App app{"The server of Upright Porter. It is started by uporter, which has the commands for people."};
  app.set_version_flag("--version", "uporterd " PORTER_VERSION);
  app.add_option("--folder", options.folder, "The document root");
  app.add_option("--port", options.port, "The port; 0 takes any free one")->check(CLI::Range(0, 65535));
  app.add_option("--reach", options.reach, "Who can reach the server")
      ->transform(CLI::CheckedTransformer(
          std::map<std::string, Reach>{{"this-computer", Reach::this_computer}, {"network", Reach::network}}));
  app.add_option("--host", options.hosts, "A further host name to answer to");
  app.add_option("--threads", options.threads, "How many threads serve; one for each core by default")
      ->check(CLI::Range(1, 256));
  app.add_option("--limit", options.limits,
                 "NAME=NUMBER: another value for one of the limits; may be given several times");
  app.add_option("--begun", options.begun)->group("");
  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& error) {
    return app.exit(error) == 0 ? 0 : kBadUse;
  }
  // Few, long-lived allocations per thread: separate arenas would only keep memory that nobody uses.
  ::mallopt(M_ARENA_MAX, 2);
  ::signal(SIGPIPE, SIG_IGN);
  raise_file_limit();
  return serve(options);
}
