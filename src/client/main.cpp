// uporter: the command-line client.
#include <cstdio>
#include <string>

#include <CLI/CLI.hpp>

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
  try {
    app.parse(argc, argv);
  } catch (const CLI::CallForHelp& help) {
    return app.exit(help);
  } catch (const CLI::CallForVersion& version) {
    return app.exit(version);
  } catch (const CLI::RequiredError&) {
    std::fputs(app.help().c_str(), stderr);
    return kBadUse;
  } catch (const CLI::ParseError& error) {
    std::fprintf(stderr, "%s\nSee: uporter%s --help\n", error.what(), app.get_subcommands().empty() ? "" : " serve");
    return kBadUse;
  }
  return run_serve(serve);
}
