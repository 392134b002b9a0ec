// The table of interpreters: what is known, what is found, where, in which version, and what to install for the rest.
#include "client/interpreters.hpp"

#include <fmt/format.h>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/io_context.hpp>
#include <cstdio>

#include "client/output.hpp"
#include "core/settings/read_settings.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/instance.hpp"
#include "machine/probe.hpp"
#include "run/warden.hpp"

namespace porter::client {

namespace asio = boost::asio;

namespace {

std::vector<machine::FoundInterpreter> probe(const Settings& settings) {
  const run::ScopedKin kin;
  asio::io_context context(1);
  run::RunSet runs(context.get_executor());
  std::vector<machine::FoundInterpreter> all;
  machine::VersionsKnown none;
  asio::co_spawn(context, machine::probe_interpreters(runs, settings, machine::search_path(), none),
                 [&](const std::exception_ptr&, std::vector<machine::FoundInterpreter> found) {
                   all = std::move(found);
                   context.stop();
                 });
  context.run();
  return all;
}

std::string_view where_text(script::Interpreter::Where where) {
  return where == script::Interpreter::Where::anywhere ? "anywhere" : "script folders";
}

void print_table(const std::vector<machine::FoundInterpreter>& all) {
  fmt::print("{:<11}  {:<16}  {:<14}  {:<9}  {}\n", "Language", "Endings", "Run in", "Version", "Program");
  for (const machine::FoundInterpreter& found : all) {
    const script::Interpreter& known = found.interpreter;
    std::string program =
        found.path.empty() ? fmt::format("not installed; sudo apt-get install {}", known.package) : found.path;
    if (!known.persistence.external.empty() && known.is_persistent()) {
      program = "external " + text::listed(known.persistence.external);
    } else if (!found.path.empty() && known.is_persistent()) {
      program += ", persistent";
    }
    if (!found.site.empty()) program += ", for site " + found.site;
    print_wrapped(fmt::format("{:<11}  {:<16}  {:<14}  {:<9}  {}\n", known.language, known.endings,
                              where_text(known.where), found.version.empty() ? "–" : found.version, program),
                  58);
  }
  print_wrapped(
      "\nIn a script folder (cgi-bin), a file's own first line (#!) comes before its ending, and compiled programs run "
      "as they are.\n",
      0);
}

}  // namespace

int run_interpreters(const std::string& settings_file) {
  // What is wrong elsewhere in the settings does not matter here.
  const SettingsRead read = machine::read_settings_file(machine::find_settings_file(settings_file));
  const auto all = probe(read.settings);
  if (is_json_wanted()) {
    auto out = nlohmann::json::array();
    for (const machine::FoundInterpreter& found : all) out.push_back(machine::json_of(found));
    print_json({{"languages", std::move(out)}});
  } else {
    print_table(all);
  }
  return kFine;
}

}  // namespace porter::client
