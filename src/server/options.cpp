// The command line of uporterd. It stands alone, since the library that reads it takes long to compile.
#include "server/options.hpp"

#include <CLI/CLI.hpp>
#include <map>

namespace porter::server {

std::optional<int> read_options(int argc, char** argv, Options& options) {
  CLI::App app{"The server of Upright Porter. It is started by uporter, which has the commands for people."};
  app.set_version_flag("--version", "uporterd " PORTER_VERSION);
  app.add_option("--settings", options.settings, "Serve what this file describes, as an absolute path");
  app.add_option("--ready", options.ready)->group("");
  app.add_flag("--background", options.in_background)->group("");
  app.add_option("--folder", options.folder, "The document root");
  app.add_option("--port", options.port, "The port; 0 takes any free one")->check(CLI::Range(0, 65535));
  app.add_option("--reach", options.reach, "Who can reach the server")
      ->transform(CLI::CheckedTransformer(std::map<std::string, Address::Reach>{
          {"this-computer", Address::Reach::this_computer}, {"network", Address::Reach::network}}));
  app.add_option("--host", options.hosts, "Also answer to this host");
  app.add_option("--fallback", options.fallback, "The script that answers for paths that lead to no file");
  app.add_option("--console", options.console, "Where the console is, such as localhost:8079, or off");
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
  return std::nullopt;
}

}  // namespace porter::server
