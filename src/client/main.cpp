// uporter: the command-line client.
#include <cstdio>
#include <string>

#include <CLI/CLI.hpp>

#include "client/interpreters.hpp"
#include "client/rehearse.hpp"
#include "client/serve.hpp"

int main(int argc, char** argv) {
  using namespace porter::client;
  CLI::App app{
      "Upright Porter: a server for a web developer's own machine. It shows a folder's pages in the browser, and\n"
      "runs the scripts in it.\n\nBegin with:  uporter serve FOLDER"};
  app.name("uporter");
  app.set_version_flag("--version", "uporter " PORTER_VERSION);
  app.require_subcommand(1);
  ServeOptions serve;
  add_serve(app, serve);
  int status = 0;
  add_interpreters(app, status);
  RehearseOptions rehearse;
  const CLI::App* const rehearse_command = add_rehearse(app, rehearse);
  try {
    app.parse(argc, argv);
  } catch (const CLI::CallForHelp& help) {
    return app.exit(help);
  } catch (const CLI::CallForVersion& version) {
    return app.exit(version);
  } catch (const CLI::RequiredError& error) {
    if (app.get_subcommands().empty()) {
      std::fputs(app.help().c_str(), stderr);
    } else {
      std::fprintf(stderr, "%s\nSee: uporter %s --help\n", error.what(),
                   app.get_subcommands().front()->get_name().c_str());
    }
    return kBadUse;
  } catch (const CLI::ParseError& error) {
    std::fprintf(stderr, "%s\nSee: uporter%s --help\n", error.what(),
                 app.get_subcommands().empty() ? "" : (" " + app.get_subcommands().front()->get_name()).c_str());
    return kBadUse;
  }
  if (rehearse_command->parsed()) return run_rehearse(rehearse);
  if (app.got_subcommand("interpreters")) return status;
  return run_serve(serve);
}
