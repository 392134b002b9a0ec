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

int run_serve(const ServeOptions& options) {
  if (!exists_if_named(options.settings)) return kBadUse;
  const auto begun = std::chrono::steady_clock::now().time_since_epoch();
  const std::string program = server_program();
  std::vector<std::string> words = {program, "--begun", std::to_string(std::chrono::nanoseconds(begun).count())};
  if (options.settings.empty()) {
    words.insert(words.end(), {"--folder", options.folder, "--reach", options.reach});
    if (options.port >= 0) words.insert(words.end(), {"--port", std::to_string(options.port)});
    for (const std::string& host : options.hosts) words.insert(words.end(), {"--host", host});
  } else {
    words.insert(words.end(), {"--settings", machine::find_settings_file(options.settings)});
  }
  std::vector<char*> arguments;
  for (std::string& word : words) arguments.push_back(word.data());
  arguments.push_back(nullptr);
  ::execv(program.c_str(), arguments.data());
  std::fprintf(stderr,
               "The server program %s cannot be started: %s. It must lie beside uporter; build it: make build\n",
               program.c_str(), std::strerror(errno));
  return 1;
}

}  // namespace porter::client
