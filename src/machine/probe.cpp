// Asking interpreters for their versions. See probe.hpp.
#include "machine/probe.hpp"

#include <algorithm>
#include <array>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/this_coro.hpp>

#include "core/files/beneath.hpp"
#include "core/files/state.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"

namespace porter::machine {
namespace {

constexpr std::chrono::seconds kMostTime{2};
constexpr std::size_t kMostOutput = 16 * 1024;

asio::awaitable<void> ask_version(run::RunSet& runs, std::string search_path, FoundInterpreter& found) {
  run::RunOrder order;
  order.program = found.path;
  order.arguments = {found.path, found.interpreter.version_argument};
  order.environment.add("PATH", search_path);
  order.folder = "/";
  auto started = run::Run::start(co_await asio::this_coro::executor, runs, std::move(order));
  if (std::holds_alternative<run::StartError>(started)) co_return;
  const auto process = std::get<std::shared_ptr<run::Run>>(started);
  auto asked = output_of(process);
  const std::string output = co_await std::move(asked);
  found.version = script::version_in(output.empty() ? process->error_text() : output);
}

}  // namespace

nlohmann::json json_of(const FoundInterpreter& found) {
  const script::Interpreter& known = found.interpreter;
  nlohmann::json out = {{"language", known.language},
                        {"site", text::to_utf8(found.site)},
                        {"endings", known.endings},
                        {"anywhere", known.where == script::Interpreter::Where::anywhere},
                        {"program", known.program},
                        {"path", found.path},
                        {"persistent", known.is_persistent()},
                        {"version", found.version}};
  if (!known.persistence.external.empty()) out["external"] = known.persistence.external;
  if (found.path.empty() && !known.package.empty()) out["install"] = "sudo apt-get install " + known.package;
  return out;
}

asio::awaitable<std::string> output_of(std::shared_ptr<run::Run> process) {
  process->set_deadline(run::Clock::now() + kMostTime);
  std::string output;
  std::array<char, 1024> buffer;
  while (const std::size_t got = co_await process->read(buffer))
    if (output.size() < kMostOutput) output += std::string_view(buffer.data(), std::min(got, buffer.size()));
  co_await process->end();
  co_return output;
}

asio::awaitable<std::vector<FoundInterpreter>> probe_interpreters(run::RunSet& runs, const Settings& settings,
                                                                  std::string search_path, VersionsKnown& known) {
  std::vector<FoundInterpreter> all;
  const auto add = [&](const script::Interpreter& interpreter, const std::string& site) {
    all.push_back({interpreter, site, files::find_program(interpreter.program, search_path)});
  };
  for (const script::Interpreter& interpreter : settings.interpreters) add(interpreter, "");
  for (const Site& site : settings.sites)
    for (const script::Interpreter& own : site.own_languages)
      if (std::find(settings.interpreters.begin(), settings.interpreters.end(), own) == settings.interpreters.end())
        add(own, site.name);
  const auto executor = co_await asio::this_coro::executor;
  std::size_t asked = 0;
  run::Event done(executor);
  for (FoundInterpreter& found : all) {
    if (found.path.empty() || found.interpreter.version_argument.empty()) continue;
    struct stat now {};
    const auto before = known.find(found.path);
    if (before != known.end() && ::stat(found.path.c_str(), &now) == 0 &&
        files::same_state(now, before->second.first)) {
      found.version = before->second.second;
      continue;
    }
    ++asked;
    asio::co_spawn(executor, ask_version(runs, search_path, found), [&](const std::exception_ptr&) {
      if (--asked == 0) done.set();
    });
  }
  if (asked > 0) co_await done.wait();
  for (const FoundInterpreter& found : all) {
    struct stat now {};
    if (!found.version.empty() && ::stat(found.path.c_str(), &now) == 0) known[found.path] = {now, found.version};
  }
  co_return all;
}

}  // namespace porter::machine
