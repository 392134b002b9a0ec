// uporter: the command-line client. All options stand here; each command is in a file of its own.
#include <algorithm>
#include <functional>
#include <memory>
#include <string>
#include <string_view>
#include <tuple>

#include <CLI/CLI.hpp>

#include "client/autostart.hpp"
#include "client/exchange_commands.hpp"
#include "client/explain_commands.hpp"
#include "client/instance_commands.hpp"
#include "client/interpreters.hpp"
#include "client/open.hpp"
#include "client/output.hpp"
#include "client/reference.hpp"
#include "client/rehearse.hpp"
#include "client/serve.hpp"
#include "client/site_commands.hpp"
#include "client/version.hpp"
#include "core/text/text.hpp"

namespace {

using namespace porter::client;

/// What the command line says, and what is to be done.
struct CommandLine {
  std::string settings;
  ServerChoice meant;  ///< What --at says.
  bool all = false;
  bool codes = false;
  bool deep = false;
  ServeOptions serve;
  RehearseOptions rehearse;
  LogOptions log;
  ExchangesOptions exchanges;
  ExchangeOptions exchange;
  AgainOptions again;
  CompareOptions compare;
  SiteOptions site;
  MountOptions mount;
  std::string what;
  std::function<int()> run;

  /// The server that a command is about that was given as "uporter `name`".
  ServerChoice server(const std::string& name) const {
    ServerChoice out = meant;
    out.settings = settings;
    out.command = "uporter " + name;
    return out;
  }
};

CLI::App* add(CLI::App& to, CommandLine& line, const std::string& name, const std::string& description,
              std::function<int()> run) {
  CLI::App* const command = to.add_subcommand(name, description);
  command->add_option("--settings", line.settings,
                      "The settings file; ./uporter.toml or that of the user if none is named");
  // The first site makes the settings that it is added to; all else goes by those that are there.
  const bool makes_settings = to.get_name() == "site" && name == "add";
  command->callback([&line, run = std::move(run), makes_settings] {
    line.run = [&line, run, makes_settings] {
      return makes_settings || exists_if_named(line.settings) ? run() : kBadUse;
    };
  });
  // It becomes the server, which speaks to people.
  if (name != "serve") command->add_flag_callback("--json", set_json_wanted, "Print JSON");
  return command;
}

/// Adds a command about a server that runs, which is found where it is not named.
CLI::App* add_to_running(CLI::App& app, CommandLine& line, const std::string& name, const std::string& description,
                         std::function<int(const ServerChoice&)> run) {
  CLI::App* const command =
      add(app, line, name, description, [&line, name, run = std::move(run)] { return run(line.server(name)); });
  command->add_option("--at", line.meant.port, "The port of the server that is meant, where several run")
      ->check(CLI::Range(1, 65535));
  return command;
}

void add_serving(CLI::App& app, CommandLine& line) {
  ServeOptions& options = line.serve;
  CLI::App* const serve =
      add(app, line, "serve", "Show a folder in the browser, and run the scripts in it, until Ctrl+C", [&line] {
        line.serve.settings = line.settings;
        return run_serve(line.serve);
      });
  serve->add_option("FOLDER", options.folder, "The document root; the current folder if none is named");
  serve->add_option("--port", options.port, "The port, 8080 or the next free one by default; 0 takes any free one")
      ->check(CLI::Range(0, 65535));
  serve->add_option("--reach", options.reach, "Who can reach the server: this-computer (default) or network")
      ->check(CLI::IsMember({"this-computer", "network"}));
  serve->add_option("--host", options.hosts, "Also answer to this host; may be given several times");
  serve->add_option("--fallback", options.fallback, "The script that answers for paths that lead to no file");
  serve->add_option("--console", options.console,
                    "Where the console is, localhost:8079 or the next lower free port by default; off for none");
}

void add_instance(CLI::App& app, CommandLine& line) {
  add(app, line, "start", "Start the server in the background",
      [&line] { return run_start(line.settings, line.serve.reach); })
      ->add_option(
          "--reach", line.serve.reach,
          "Who can reach the sites, until it is stopped: this-computer or network; as the settings say by default")
      ->check(CLI::IsMember({"this-computer", "network"}));
  add_to_running(app, line, "stop", "Stop the server; what is running gets a moment to finish", run_stop);
  add(app, line, "restart", "Stop the server and start it again, if its settings are fine",
      [&line] { return run_restart(line.settings); });
  CLI::App* const status = add_to_running(
      app, line, "status", "Tell whether the server runs, and what it serves", [&line](const ServerChoice& meant) {
        return line.all ? run_status_of_all() : run_status(meant, line.codes ? Codes::shown : Codes::hidden);
      });
  status->add_flag("--qr-code", line.codes, "Show the URLs for other devices as codes for a camera as well");
  status->add_flag("--all", line.all, "Tell of all your servers that run");
  add_to_running(app, line, "reload",
                 "Have the server read its settings again; it does so by itself when they are saved", run_reload);
  add_to_running(app, line, "pause", "Close the addresses, and keep the server and its console", run_pause);
  add_to_running(app, line, "resume", "Open the addresses again after a pause", run_resume);
  CLI::App* const log = add_to_running(app, line, "log", "Show the last requests",
                                       [&line](const ServerChoice& meant) { return run_log(meant, line.log); });
  log->add_flag("--follow", line.log.follow, "Keep printing new entries");
  log->add_option("--site", line.log.site, "Only those of one site");
  log->add_flag("--errors", line.log.errors, "Only those with a status from 400 on");
  log->add_option("--limit", line.log.lines, "How many; 40 by default");
  CLI::App* const check = add(app, line, "check", "Tell what is wrong in the settings",
                              [&line] { return run_check(line.what.empty() ? line.settings : line.what); });
  check->add_option("FILE", line.what, "The settings file");
  CLI::App* const autostart = add(app, line, "autostart", "Have the server start at login", [&line] {
    return run_autostart(line.settings, line.what == "on"    ? Autostart::on
                                        : line.what == "off" ? Autostart::off
                                                             : Autostart::status);
  });
  autostart->add_option("ACTION", line.what, "on, off or status")
      ->required()
      ->check(CLI::IsMember({"on", "off", "status"}));
}

void add_site_options(CLI::App* command, CommandLine& line) {
  command->add_option("--host", line.site.hosts, "A host name to answer to; may be given several times");
  command->add_option("--root-of", line.site.root_of, "Also answer to this host at its /, such as localhost");
  command->add_option("--port", line.site.port, "A port of its own")->check(CLI::Range(1, 65535));
  command->add_option("--reach", line.site.reach, "Who can reach it: this-computer, or network, at a port of its own")
      ->check(CLI::IsMember({"this-computer", "network"}));
  command->add_option("--fallback", line.site.fallback,
                      "The script that answers for paths that lead to no file; \"\" for none");
}

void add_sites(CLI::App& app, CommandLine& line) {
  CLI::App* const site = app.add_subcommand("site", "Add, change, remove and list the sites");
  site->require_subcommand(1);
  CLI::App* const site_add = add(*site, line, "add", "Add a site: a folder, under a name",
                                 [&line] { return run_site_add(line.settings, line.site); });
  site_add->add_option("NAME", line.site.name, "Its name; without --host it answers to NAME.localhost")->required();
  site_add->add_option("FOLDER", line.site.folder, "Its document root")->required();
  add_site_options(site_add, line);
  CLI::App* const site_change = add(*site, line, "change", "Change a site; what is not named stays as it is",
                                    [&line] { return run_site_change(line.settings, line.site); });
  site_change->add_option("NAME", line.site.name, "Its name")->required();
  site_change->add_option("--folder", line.site.folder, "Another document root");
  add_site_options(site_change, line);
  CLI::App* const site_remove = add(*site, line, "remove", "Remove a site; its folder stays as it is",
                                    [&line] { return run_site_remove(line.settings, line.site.name); });
  site_remove->add_option("NAME", line.site.name, "Its name")->required();
  add(*site, line, "list", "List the sites with their URLs", [&line] { return run_site_list(line.settings); });

  CLI::App* const mount = app.add_subcommand("mount", "Serve another folder under a site's path");
  mount->require_subcommand(1);
  CLI::App* const mount_add = add(*mount, line, "add", "Show a folder, or run one script, at a path",
                                  [&line] { return run_mount_add(line.settings, line.mount); });
  mount_add->add_option("PATH", line.mount.path, "The path, such as /archive")->required();
  mount_add->add_option("TARGET", line.mount.folder, "The folder or the script")->required();
  mount_add->add_option("--site", line.mount.site,
                        "The site; where there are several, the one whose project has the target");
  mount_add->add_flag("--persistent", line.mount.is_persistent,
                      "The target is a program that speaks FastCGI and answers one request after another");
  mount_add->add_flag("--replace-pages", line.mount.replaces_pages, "Take / although the site has pages there");
  CLI::App* const mount_remove = add(*mount, line, "remove", "Take a mount away; its folder stays as it is",
                                     [&line] { return run_mount_remove(line.settings, line.mount); });
  mount_remove->add_option("PATH", line.mount.path, "The path")->required();
  mount_remove->add_option("--site", line.mount.site, "The site; the first one if none is named");

  add(*mount, line, "list", "List the mounts of all sites", [&line] { return run_mount_list(line.settings); });

  CLI::App* const open = add(app, line, "open", "Open the browser at a site or a file",
                             [&line] { return run_open(line.settings, line.what); });
  open->add_option(
      "WHAT", line.what,
      "A file or folder, by its path or file:// URL; the name of a site; console; or root for the folder of "
      "the first site. The first site if nothing is named");
}

void add_explaining(CLI::App& app, CommandLine& line) {
  CLI::App* const explain =
      add_to_running(app, line, "explain", "Tell what a URL leads to, or under which URLs a file is served, and why",
                     [&line](const ServerChoice& meant) { return run_explain(meant, line.what); });
  explain->add_option("WHAT", line.what, "A URL, or the path of a file or folder")->required();
  CLI::App* const doctor = add_to_running(
      app, line, "doctor", "Check settings, addresses, document roots, scripts and interpreters",
      [&line](const ServerChoice& meant) { return run_doctor(meant, line.deep ? Depth::with_syntax : Depth::usual); });
  doctor->add_flag("--deep", line.deep, "Have the interpreters check the syntax of all scripts as well");
  add(app, line, "languages", "List the languages that can be run on this machine",
      [&line] { return run_interpreters(line.settings); });
}

void add_exchanges(CLI::App& app, CommandLine& line) {
  ExchangesOptions& all = line.exchanges;
  CLI::App* const exchanges =
      add_to_running(app, line, "exchanges", "List what went over the wire, an exchange a line",
                     [&line](const ServerChoice& meant) { return run_exchanges(meant, line.exchanges); });
  exchanges->add_flag("--follow", all.follow, "Keep printing new entries");
  exchanges->add_option("--site", all.site, "Only those of one site");
  exchanges->add_option("--status", all.status, "Only those with this status; 4xx stands for all from 400 to 499");
  exchanges->add_option("--method", all.method, "Only those with this method");
  exchanges->add_option("--text", all.text, "Only those in which each of these words was sent, either way");
  exchanges->add_option("--limit", all.most, "How many; 40 by default")->check(CLI::Range(1, 10'000));
  exchanges->add_option("--har", all.har, "Write them to this file as HAR 1.2; - for standard output");
  exchanges->add_flag("--with-secrets", all.with_secrets, "Include cookies and passwords in the HAR");

  ExchangeOptions& one = line.exchange;
  CLI::App* const exchange =
      add_to_running(app, line, "exchange", "Show one exchange: request, response, time, run, and how it was decided",
                     [&line](const ServerChoice& meant) { return run_exchange(meant, line.exchange); });
  exchange->add_option("NUMBER", one.number, "The number of the exchange")->required();
  using Part = ExchangeOptions::Part;
  const std::tuple<const char*, Part, const char*> parts[] = {
      {"--request", Part::request, "Print the bytes of the request alone, for pipes"},
      {"--response", Part::response, "Print the bytes of the response alone"},
      {"--body-only", Part::page, "Print the body of the response alone, decoded"},
      {"--curl", Part::curl, "Print a command for curl that sends the same"}};
  for (const auto& [name, part, text] : parts)
    exchange->add_flag_callback(
        name, [&one, part = part] { one.part = part; }, text);

  AgainOptions& again = line.again;
  CLI::App* const repeat =
      add_to_running(app, line, "again", "Send a request once more, as it was or changed, and tell what differs",
                     [&line](const ServerChoice& meant) { return run_again(meant, line.again); });
  repeat->add_option("NUMBER", again.number, "The number of the exchange")->required();
  repeat->add_option("--method", again.method, "Override the method");
  repeat->add_option("--target", again.target, "The path and query in place of what they were");
  repeat->add_option("--header", again.fields,
                     "A field in place of that of its name, \"Name: value\"; may be given several times");
  repeat->add_option("--without", again.without, "The name of a field to leave out; may be given several times");
  repeat->add_option("--body", again.body, "A file to be sent as the body; - for standard input");
  repeat->add_flag("--yes", again.yes, "Send it without a question, also where it may change something");

  CompareOptions& sides = line.compare;
  CLI::App* const compare =
      add_to_running(app, line, "compare", "Tell what differs between two exchanges",
                     [&line](const ServerChoice& meant) { return run_compare(meant, line.compare); });
  const char* const kSide = "The number of an exchange, an entry of a HAR such as good.har#1, or a file";
  compare->add_option("LEFT", sides.left, kSide)->required();
  compare->add_option("RIGHT", sides.right, kSide)->required();
}

void add_rehearsal(CLI::App& app, CommandLine& line) {
  RehearseOptions& options = line.rehearse;
  CLI::App* const command =
      add(app, line, "rehearse", "Run a script as the server would, without a server, and show what it did", [&line] {
        line.rehearse.settings = line.settings;
        return run_rehearse(line.rehearse);
      });
  command->add_option("SCRIPT", options.script, "The script's path, or its URL")->required();
  command->add_option("--at", options.at, "The URL at which a mounted or fallback script is to answer")
      ->type_name("URL")
      ->check([](const std::string& url) { return url.starts_with("http://") ? "" : "a URL begins with http://"; });
  command->add_option("--document-root", options.root,
                      "The document root; else that of the site it belongs to, or the folder that its cgi-bin lies in");
  command->add_option("--query", options.query, "The query, as it would stand in the URL");
  command->add_option("--method", options.method, "The method; GET, or POST if there is a body");
  command->add_option("--body", options.body, "A file to be sent as the body; - for standard input");
  command->add_option("--type", options.type, "The body's Content-Type; that of a form if none is named");
  command->add_option("--header", options.headers, "A further header, \"Name: value\"; may be given several times");
  command->add_option("--path-info", options.path_info, "What follows the script in the path, with its slash");
  command->add_option("--host", options.host, "The Host field; localhost:8080 if none is named");
  command->add_flag("--environment", options.show_environment, "Show the environment that it is given");
  command->add_flag("--body-only", options.body_only, "Print its page alone, for pipes");
}

/// What makes the manual and the completions, and what these ask: no commands for people.
void add_reference(CLI::App& app, CommandLine& line) {
  CLI::App* const reference = add(app, line, "reference", "Write the manual pages and completions to a folder",
                                  [&app, &line] { return write_reference(app, line.what, line.site.folder); });
  reference->add_option("FOLDER", line.what)->required();
  reference->add_option("MANUAL", line.site.folder, "The commented settings file")->required();
  CLI::App* const values = add(app, line, "values", "Print what completions offer",
                               [&line] { return print_values(line.settings, line.what); });
  values->add_option("KIND", line.what)->required()->check(CLI::IsMember({"sites", "exchanges"}));
  for (CLI::App* const command : {reference, values}) command->group("");
}

/// Where the list of commands shows one, and what it is used like.
struct Shown {
  const char* name;
  const char* group;
  const char* example;
};
constexpr Shown kShown[] = {
    {"serve", "Serve", "uporter serve ~/ferries --fallback index.php"},
    {"start", "Serve", "uporter start --settings ~/ferries/uporter.toml"},
    {"stop", "Serve", "uporter stop"},
    {"restart", "Serve", "uporter restart"},
    {"open", "Serve", "uporter open timetable.php"},
    {"status", "Control", "uporter status --all"},
    {"reload", "Control", "uporter reload"},
    {"pause", "Control", "uporter pause"},
    {"resume", "Control", "uporter resume"},
    {"autostart", "Control", "uporter autostart on"},
    {"site", "Sites", "uporter site add fares ~/ferries/fares"},
    {"mount", "Sites", "uporter mount add /archive ~/ferries/archive --site fares"},
    {"check", "Sites", "uporter check ~/ferries/uporter.toml"},
    {"languages", "Sites", "uporter languages"},
    {"log", "Watch", "uporter log --follow --site fares"},
    {"exchanges", "Watch", "uporter exchanges --status 5xx --limit 10"},
    {"exchange", "Watch", "uporter exchange 12"},
    {"again", "Watch", "uporter again 12 --header \"Accept-Language: en\""},
    {"compare", "Watch", "uporter compare 12 14"},
    {"explain", "Diagnose", "uporter explain http://fares.localhost:8080/tides/"},
    {"doctor", "Diagnose", "uporter doctor --deep"},
    {"rehearse", "Diagnose", "uporter rehearse cgi-bin/fares --query from=skerry-head"},
};

/// Help in which each value is called by what it is.
class Help : public CLI::Formatter {
 public:
  std::string make_option_opts(const CLI::Option* option) const override {
    const std::string value = value_name(*option);
    return value.empty() ? "" : " " + value;
  }
};

void arrange_help(CLI::App& app) {
  const auto help = std::make_shared<Help>();
  help->label("Positionals", "Arguments");
  const auto use_for_all = [&help](CLI::App& one, const auto& self) -> void {
    one.formatter(help);
    for (CLI::App* const command : one.get_subcommands([](const CLI::App*) { return true; })) self(*command, self);
  };
  use_for_all(app, use_for_all);
  for (const Shown& shown : kShown) {
    CLI::App* const command = app.get_subcommand(shown.name);
    command->group(shown.group);
    command->footer(std::string("Example:  ") + shown.example);
  }
  app.footer(
      "Examples:\n"
      "  uporter serve ~/ferries                 show a folder, and run its scripts\n"
      "  uporter log --follow                    see each request as it is answered\n"
      "  uporter explain http://localhost:8080/  see what a URL leads to, and why");
}

/// What there is to say of a word that is no command.
std::string unknown_command(const CLI::App& app, const std::string& word) {
  std::vector<std::string> names;
  for (const CLI::App* const command :
       app.get_subcommands([](const CLI::App* one) { return !one->get_group().empty(); }))
    names.push_back(command->get_name());
  const auto near = porter::text::nearest(word, names);
  return "Unknown command \"" + porter::text::escape_line(word) + "\"." + (near ? " Did you mean " + *near + "?" : "") +
         "\nSee: uporter --help";
}

std::string see_help(const CLI::Error& error, const std::string& command) {
  return std::string(error.what()) + "\nSee: uporter" + command + " --help";
}

/// Tells what is wrong with the command line, in the form that it asks for.
int usage_error(int argc, char** argv, const std::string& text) {
  if (std::any_of(argv, argv + argc, [](const char* word) { return std::string_view(word) == "--json"; }))
    set_json_wanted();
  return guarded("uporter", [&text] { return fail(text, kBadUse); });
}

/// The full name of the command that was given, such as "site add".
std::string given_command(const CLI::App& app) {
  std::string out;
  const CLI::App* at = &app;
  while (!at->get_subcommands().empty()) {
    at = at->get_subcommands().front();
    out += " " + at->get_name();
  }
  return out;
}

}  // namespace

int main(int argc, char** argv) {
  CLI::App app{
      "Upright Porter: a server for a web developer's own machine. It shows folders in the browser, and runs the "
      "scripts\n"
      "in them.\n\nBegin with:  uporter serve FOLDER"};
  app.name("uporter");
  app.set_version_flag("--version", version_text());
  app.require_subcommand(1);
  CommandLine line;
  add_serving(app, line);
  add_instance(app, line);
  add_sites(app, line);
  add_explaining(app, line);
  add_exchanges(app, line);
  add_rehearsal(app, line);
  add_reference(app, line);
  arrange_help(app);
  try {
    app.parse(argc, argv);
  } catch (const CLI::CallForHelp& help) {
    return app.exit(help);
  } catch (const CLI::CallForVersion& version) {
    return app.exit(version);
  } catch (const CLI::RequiredError& error) {
    const std::string command = given_command(app);
    if (command.empty() && argc > 1 && argv[1][0] != '-') {
      return usage_error(argc, argv, unknown_command(app, argv[1]));
    }
    return usage_error(argc, argv, command.empty() ? app.help() : see_help(error, command));
  } catch (const CLI::ParseError& error) {
    return usage_error(argc, argv, see_help(error, given_command(app)));
  }
  return guarded("uporter" + given_command(app), line.run);
}
