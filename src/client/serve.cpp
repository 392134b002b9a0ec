// Turning this process into uporterd, so that signals and the exit status are the server's own; and starting others.
#include "client/serve.hpp"

#include <unistd.h>

#include <array>
#include <cerrno>
#include <chrono>
#include <climits>
#include <cstdio>
#include <cstring>

#include "client/output.hpp"
#include "client/servers.hpp"
#include "core/files/beneath.hpp"
#include "core/files/paths.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/instance.hpp"
#include "run/process.hpp"

namespace porter::client {

std::string server_program() {
  std::array<char, PATH_MAX> self{};
  const ssize_t length = ::readlink("/proc/self/exe", self.data(), self.size() - 1);
  if (length <= 0) return "uporterd";
  const std::string path(self.data(), static_cast<std::size_t>(length));
  return path.substr(0, path.rfind('/') + 1) + "uporterd";
}

std::string client_program() {
  const std::string server = server_program();
  return server.substr(0, server.size() - 1);
}

std::optional<int> run_here(const std::string& name, std::vector<std::string> words) {
  run::StartOrder order;
  order.program = files::find_program(name, machine::search_path());
  if (order.program.empty()) return std::nullopt;
  order.arguments = std::move(words);
  order.environment = script::Environment(machine::own_environment());
  order.folder = current_folder();
  order.input = STDIN_FILENO;
  order.output = STDOUT_FILENO;
  order.error = STDERR_FILENO;
  // It may be a browser, which stays when this command is over.
  order.leads = run::StartOrder::Leads::session;
  return run::run_to_its_end(std::move(order));
}

std::string fallback_below(const std::string& root, const std::string& named) {
  std::array<char, PATH_MAX> real{};
  std::array<char, PATH_MAX> real_root{};
  if (named.empty() || ::access((root + "/" + named).c_str(), F_OK) == 0) return named;
  if (::realpath(named.c_str(), real.data()) == nullptr || ::realpath(root.c_str(), real_root.data()) == nullptr)
    return named;
  const std::string_view path = real.data();
  const std::string_view folder = real_root.data();
  const bool is_below = files::lies_in(path, folder) && path != folder;
  return is_below ? std::string(path.substr(folder == "/" ? 1 : folder.size() + 1)) : named;
}

namespace {

/// Options that a server goes without where its settings say it all; empty: there are none.
std::string options_dropped(const ServeOptions& options) {
  std::string out;
  const auto add = [&out](bool is_given, const char* name) {
    if (is_given) out += (out.empty() ? "" : ", ") + std::string(name);
  };
  add(!options.folder.empty(), "FOLDER");
  add(options.port >= 0, "--port");
  add(!options.reach.empty(), "--reach");
  add(!options.hosts.empty(), "--host");
  add(!options.fallback.empty(), "--fallback");
  add(!options.console.empty(), "--console");
  return out;
}

/// Tells of settings in the folder, which are not gone by.
void tell_of_settings(const std::string& folder) {
  const std::string file = folder + "/uporter.toml";
  std::array<char, PATH_MAX> real{};
  if (::access(file.c_str(), F_OK) != 0 || ::realpath(file.c_str(), real.data()) == nullptr) return;
  std::fprintf(stderr, "%s is not read, since a folder is served. To go by it: uporter serve --settings %s\n",
               text::escape_line(real.data()).c_str(), text::shell_word(real.data()).c_str());
}

}  // namespace

int run_serve(const ServeOptions& options) {
  const auto begun = std::chrono::steady_clock::now().time_since_epoch();
  const std::string program = server_program();
  std::vector<std::string> words = {program, "--begun", std::to_string(std::chrono::nanoseconds(begun).count())};
  if (options.settings.empty()) {
    const std::string folder = options.folder.empty() ? "." : options.folder;
    tell_of_settings(folder);
    tell_of_variables();
    words.insert(words.end(), {"--folder", folder});
    if (!options.reach.empty()) words.insert(words.end(), {"--reach", options.reach});
    if (options.port >= 0) words.insert(words.end(), {"--port", std::to_string(options.port)});
    for (const std::string& host : options.hosts) words.insert(words.end(), {"--host", host});
    if (!options.console.empty()) words.insert(words.end(), {"--console", options.console});
    if (!options.fallback.empty()) words.insert(words.end(), {"--fallback", fallback_below(folder, options.fallback)});
  } else {
    if (const std::string dropped = options_dropped(options); !dropped.empty())
      return fail("--settings cannot be combined with " + dropped +
                      ": the settings say it all. Leave it out, or write it there: " +
                      text::escape_line(machine::find_settings_file(options.settings)),
                  kBadUse);
    words.insert(words.end(), {"--settings", machine::find_settings_file(options.settings)});
  }
  std::vector<char*> arguments;
  arguments.reserve(words.size() + 1);
  for (std::string& word : words) arguments.push_back(word.data());
  arguments.push_back(nullptr);
  ::execv(program.c_str(), arguments.data());
  std::fprintf(stderr,
               "The server program %s cannot be started: %s. It must lie beside uporter; build it: make build\n",
               program.c_str(), std::strerror(errno));
  return 1;
}

}  // namespace porter::client
