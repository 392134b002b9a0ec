// See reference.hpp.
#include "client/reference.hpp"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cctype>
#include <filesystem>
#include <fstream>
#include <map>
#include <string_view>
#include <system_error>
#include <vector>

#include "client/control_client.hpp"
#include "client/output.hpp"
#include "client/servers.hpp"
#include "core/files/content.hpp"
#include "core/text/text.hpp"
#include "machine/instance.hpp"

namespace porter::client {
namespace {

namespace fs = std::filesystem;

bool is_shown(const CLI::App* command) { return !command->get_group().empty(); }

std::vector<const CLI::App*> commands_of(const CLI::App& app) {
  auto out = app.get_subcommands([](const CLI::App* command) { return is_shown(command); });
  return out;
}

std::vector<const CLI::Option*> options_of(const CLI::App& app, bool positional) {
  auto out = app.get_options([positional](const CLI::Option* option) {
    return option->get_positional() == positional && !option->get_group().empty();
  });
  return out;
}

/// The words that `option` takes alone, such as those of --reach; empty: any.
std::vector<std::string> choices_of(const CLI::Option& option) {
  const std::string type = option.get_type_name();
  const std::size_t begin = type.find('{');
  const std::size_t end = type.find('}');
  std::vector<std::string> out;
  if (begin == type.npos || end == type.npos) return out;
  for (const std::string_view word : text::parts_of(std::string_view(type).substr(begin + 1, end - begin - 1), ','))
    out.emplace_back(word);
  return out;
}

/// Text as roff has it: no line of it is taken for a request, and hyphens can be copied.
std::string roff(std::string_view text) {
  std::string out;
  bool is_line_start = true;
  for (const char c : text) {
    if (is_line_start && (c == '.' || c == '\'')) out += "\\&";
    is_line_start = c == '\n';
    if (c == '\\') {
      out += "\\e";
    } else if (c == '-') {
      out += "\\-";
    } else {
      out += c;
    }
  }
  return out;
}

std::string heading(const std::string& name, int section, const std::string& what) {
  std::string upper = name;
  std::transform(upper.begin(), upper.end(), upper.begin(), [](unsigned char c) { return std::toupper(c); });
  return fmt::format(".TH \"{}\" {} \"\" \"Upright Porter {}\" \"Upright Porter\"\n.SH NAME\n{} \\- {}\n", roff(upper),
                     section, PORTER_VERSION, roff(name), roff(what));
}

std::string first_line(std::string_view text) { return std::string(text.substr(0, text.find('\n'))); }

std::string synopsis(const CLI::App& command, const std::string& name) {
  std::string out = fmt::format(".SH SYNOPSIS\n.B {}\n", roff(name));
  for (const CLI::Option* const option : options_of(command, true)) {
    const std::string word = fmt::format("\\fI{}\\fR", roff(option->get_name()));
    out += option->get_required() ? word + "\n" : "[" + word + "]\n";
  }
  return out + "[\\fIOPTION\\fR]...\n";
}

std::string option_list(const CLI::App& command) {
  std::string out;
  for (const bool positional : {true, false})
    for (const CLI::Option* const option : options_of(command, positional)) {
      const std::string value = positional ? "" : value_name(*option);
      const std::string name = positional ? option->get_name() : "--" + option->get_lnames().front();
      out += fmt::format(".TP\n\\fB{}\\fR{}\n{}\n", roff(name), value.empty() ? "" : " \\fI" + roff(value) + "\\fR",
                         roff(option->get_description()));
    }
  return out.empty() ? out : ".SH OPTIONS\n" + out;
}

constexpr const char* kStatuses =
    ".SH EXIT STATUS\n.TP\n0\nIt is so, or it was done.\n.TP\n1\nIt is not so, or could not be done; what is wrong is "
    "told on the standard error.\n.TP\n2\nThe command line or the settings are wrong.\n";

bool write(const fs::path& path, const std::string& text) {
  std::error_code error;
  fs::create_directories(path.parent_path(), error);
  std::ofstream file(path, std::ios::trunc);
  file << text;
  file.close();
  return static_cast<bool>(file);
}

std::string page_of(const CLI::App& command, const std::string& name) {
  std::string hyphened = name;
  std::replace(hyphened.begin(), hyphened.end(), ' ', '-');
  std::string out = heading(hyphened, 1, first_line(command.get_description())) + synopsis(command, name);
  out += ".SH DESCRIPTION\n" + roff(command.get_description()) + ".\n";
  const auto below = commands_of(command);
  for (const CLI::App* const one : below)
    out += fmt::format(".SS {} {}\n{}.\n{}", roff(name), roff(one->get_name()), roff(one->get_description()), "");
  out += option_list(command);
  for (const CLI::App* const one : below) {
    std::string list = option_list(*one);
    if (!list.empty()) out += fmt::format(".SH \"OPTIONS OF {}\"", roff(one->get_name())) + list.substr(11);
  }
  out += kStatuses;
  if (const std::string example = command.get_footer(); example.starts_with("Example:"))
    out += ".SH EXAMPLES\n.nf\n" + roff(example.substr(example.find("uporter"))) + "\n.fi\n";
  return out + ".SH SEE ALSO\n.BR uporter (1),\n.BR uporterd (8),\n.BR uporter.toml (5)\n";
}

std::string page_of_all(const CLI::App& app) {
  std::string out = heading("uporter", 1, "show folders in the browser, and run the scripts in them");
  out += ".SH SYNOPSIS\n.B uporter\n\\fICOMMAND\\fR [\\fIARGUMENT\\fR]...\n.SH DESCRIPTION\n" +
         roff(app.get_description()) + "\n.SH COMMANDS\n";
  for (const CLI::App* const command : commands_of(app))
    out += fmt::format(".TP\n.BR uporter\\-{} (1)\n{}.\n", roff(command->get_name()), roff(command->get_description()));
  return out + kStatuses +
         ".SH FILES\n.TP\n\\&./uporter.toml\nThe settings, if there are some in the current folder.\n"
         ".TP\n~/.config/upright\\-porter/uporter.toml\nThe settings else.\n"
         ".TP\n~/.local/state/upright\\-porter/\nLogs, and what the server keeps between starts.\n"
         ".SH SEE ALSO\n.BR uporterd (8),\n.BR uporter.toml (5)\n";
}

std::string page_of_server() {
  return heading("uporterd", 8, "the server of Upright Porter") +
         ".SH SYNOPSIS\n.B uporterd\n[\\fB\\-\\-settings\\fR \\fIFILE\\fR | \\fB\\-\\-folder\\fR \\fIFOLDER\\fR]\n"
         ".SH DESCRIPTION\nServes what its settings say, or a folder, until it is told to stop. It is started by\n"
         ".BR uporter\\-serve (1),\n.BR uporter\\-start (1)\nor the service manager; its options are those of these "
         "commands.\nIt serves this computer alone unless its settings say otherwise, and is no server for the "
         "internet.\n.SH SIGNALS\n.TP\nSIGTERM, SIGINT\nWhat is in progress gets a moment to finish; then it ends.\n"
         ".TP\nSIGHUP\nThe settings are read again, and the access log is opened again.\n"
         ".SH SEE ALSO\n.BR uporter (1),\n.BR uporter.toml (5)\n";
}

std::string page_of_settings(const std::string& settings) {
  return heading("uporter.toml", 5, "the settings of Upright Porter") +
         ".SH DESCRIPTION\nThe settings are a file in TOML. What follows is one with every key, each with what it is "
         "about;\na key behind a # has the value that holds where it is left out.\nThe server reads it again when it "
         "is saved.\n.BR uporter\\-check (1)\ntells what is wrong in it.\n.SH KEYS\n.nf\n" +
         roff(settings) + ".fi\n.SH SEE ALSO\n.BR uporter (1),\n.BR uporterd (8)\n";
}

/// What stands at a place of the command line, as completions tell it apart.
enum class Place { words, sites, exchanges, files, folders, anything };
Place place_of(const CLI::Option& option) {
  if (!choices_of(option).empty()) return Place::words;
  const std::string value = option.get_positional() ? option.get_name() : value_name(option);
  if (value == "SITE") return Place::sites;
  if (value == "FOLDER") return Place::folders;
  if (value == "FILE" || value == "SCRIPT" || value == "WHAT" || value == "TARGET") return Place::files;
  if (option.get_positional() && (value == "NUMBER" || value == "LEFT" || value == "RIGHT")) return Place::exchanges;
  return Place::anything;
}

std::string joined(const std::vector<std::string>& words) { return fmt::format("{}", fmt::join(words, " ")); }

/// All commands with their names: "status", "site add".
std::vector<std::pair<std::string, const CLI::App*>> all_commands(const CLI::App& app, const std::string& before = "") {
  std::vector<std::pair<std::string, const CLI::App*>> out;
  for (const CLI::App* const command : commands_of(app)) {
    const std::string name = before + command->get_name();
    out.emplace_back(name, command);
    for (auto& one : all_commands(*command, name + " ")) out.push_back(std::move(one));
  }
  return out;
}

std::string names_below(const CLI::App& app) {
  std::vector<std::string> out;
  for (const CLI::App* const command : commands_of(app)) out.push_back(command->get_name());
  return joined(out);
}

std::string options_text(const CLI::App& command) {
  std::vector<std::string> out;
  for (const CLI::Option* const option : options_of(command, false)) out.push_back("--" + option->get_lnames().front());
  return joined(out);
}

/// What a shell is to offer at each place, in its own words; {} stands for the words that can be.
struct Offers {
  const char* words;
  const char* sites;
  const char* exchanges;
  const char* folders;
  const char* files;
  const char* anything;
};
constexpr Offers kOfBash = {"_uporter_words \"{}\"",
                            "_uporter_words \"$(uporter values sites 2>/dev/null)\"",
                            "_uporter_words \"$(uporter values exchanges 2>/dev/null)\"",
                            "_uporter_files -d",
                            "_uporter_files -f",
                            ""};
constexpr Offers kOfFish = {" -a '{}'",
                            " -a '(uporter values sites 2>/dev/null)'",
                            " -a '(uporter values exchanges 2>/dev/null)'",
                            " -a '(__fish_complete_directories)'",
                            " -F",
                            ""};
constexpr Offers kOfZsh = {"({})", "_uporter_sites", "_uporter_exchanges", "_files -/", "_files", " "};

std::string offered(const CLI::Option& option, const Offers& offers) {
  switch (place_of(option)) {
    case Place::words:
      return fmt::format(fmt::runtime(offers.words), joined(choices_of(option)));
    case Place::sites:
      return offers.sites;
    case Place::exchanges:
      return offers.exchanges;
    case Place::folders:
      return offers.folders;
    case Place::files:
      return offers.files;
    case Place::anything:
      break;
  }
  return offers.anything;
}

std::string bash(const CLI::App& app) {
  std::string out =
      "# Completions of bash for uporter.\n"
      "_uporter_words() { COMPREPLY+=($(compgen -W \"$1\" -- \"$current\")); }\n"
      "_uporter_files() { local IFS=$'\\n'; COMPREPLY+=($(compgen \"$1\" -- \"$current\")); compopt -o filenames; }\n"
      "_uporter() {\n"
      "  local current=${COMP_WORDS[COMP_CWORD]} before=${COMP_WORDS[COMP_CWORD-1]} command=\"\" word\n"
      "  COMPREPLY=()\n"
      "  for word in \"${COMP_WORDS[@]:1:COMP_CWORD-1}\"; do\n"
      "    case \"$command $word\" in\n";
  for (const auto& [name, command] : all_commands(app)) {
    const std::size_t space = name.find(' ');
    out += fmt::format("      \"{}\") command=\"{}\" ;;\n", space == name.npos ? " " + name : name, name);
  }
  out += "    esac\n  done\n  case \"$command $before\" in\n";
  for (const auto& [name, command] : all_commands(app))
    for (const CLI::Option* const option : options_of(*command, false))
      if (!value_name(*option).empty())
        out += fmt::format("    \"{} --{}\") {}; return ;;\n", name, option->get_lnames().front(),
                           offered(*option, kOfBash).empty() ? ":" : offered(*option, kOfBash));
  out += "  esac\n  case \"$command\" in\n";
  out += fmt::format("    \"\") _uporter_words \"{} --help --version\" ;;\n", names_below(app));
  for (const auto& [name, command] : all_commands(app)) {
    const std::string below = names_below(*command);
    out += fmt::format("    \"{}\") [[ $current != -* ]] || _uporter_words \"{}\"", name, options_text(*command));
    if (!below.empty()) out += fmt::format("; _uporter_words \"{}\"", below);
    for (const CLI::Option* const option : options_of(*command, true))
      if (const std::string words = offered(*option, kOfBash); !words.empty())
        out += "; [[ $current == -* ]] || " + words;
    // What is no option may be a site, too.
    if (name == "open") out += "; _uporter_words \"console $(uporter values sites 2>/dev/null)\"";
    out += " ;;\n";
  }
  return out + "  esac\n}\ncomplete -F _uporter uporter\n";
}

std::string quoted(std::string text) {
  for (std::size_t at = 0; (at = text.find('\'', at)) != text.npos; at += 4) text.replace(at, 1, "'\\''");
  return "'" + text + "'";
}

std::string fish(const CLI::App& app) {
  std::string out = "# Completions of fish for uporter.\ncomplete -c uporter -f\n";
  out +=
      "complete -c uporter -n __fish_use_subcommand -l help -d 'Print help'\n"
      "complete -c uporter -n __fish_use_subcommand -l version -d 'Print the version'\n";
  for (const auto& [name, command] : all_commands(app)) {
    const std::size_t space = name.find(' ');
    const std::string parent = space == name.npos ? "" : name.substr(0, space);
    const std::string own = space == name.npos ? name : name.substr(space + 1);
    const std::string names = parent.empty() ? "" : names_below(*app.get_subcommand(parent));
    out += fmt::format("complete -c uporter -n {} -a {} -d {}\n",
                       parent.empty() ? "__fish_use_subcommand"
                                      : quoted(fmt::format("__fish_seen_subcommand_from {}; and not "
                                                           "__fish_seen_subcommand_from {}",
                                                           parent, names)),
                       own, quoted(first_line(command->get_description())));
    const std::string here =
        quoted(parent.empty()
                   ? fmt::format("__fish_seen_subcommand_from {}", own)
                   : fmt::format("__fish_seen_subcommand_from {}; and __fish_seen_subcommand_from {}", parent, own));
    for (const CLI::Option* const option : options_of(*command, false)) {
      const bool has_value = !value_name(*option).empty();
      out += fmt::format("complete -c uporter -n {} -l {}{}{} -d {}\n", here, option->get_lnames().front(),
                         !has_value                          ? ""
                         : place_of(*option) == Place::files ? " -r"
                                                             : " -x",
                         has_value ? offered(*option, kOfFish) : "", quoted(option->get_description()));
    }
    for (const CLI::Option* const option : options_of(*command, true))
      if (const std::string words = offered(*option, kOfFish); !words.empty())
        out += fmt::format("complete -c uporter -n {}{}\n", here, words);
    if (name == "open")
      out += fmt::format("complete -c uporter -n {} -a 'console (uporter values sites 2>/dev/null)'\n", here);
  }
  return out;
}

/// A description in the place of an argument of _arguments.
std::string zsh_text(std::string text) {
  std::string out;
  for (const char c : text) {
    if (c == '[' || c == ']' || c == ':' || c == '\\') out += '\\';
    out += c;
  }
  for (std::size_t at = 0; (at = out.find('\'', at)) != out.npos; at += 4) out.replace(at, 1, "'\\''");
  return out;
}

std::string zsh(const CLI::App& app) {
  std::string out =
      "#compdef uporter\n# Completions of zsh for uporter.\n"
      "_uporter_sites() { compadd -- ${(f)\"$(uporter values sites 2>/dev/null)\"} }\n"
      "_uporter_exchanges() { compadd -- ${(f)\"$(uporter values exchanges 2>/dev/null)\"} }\n"
      "_uporter_open() { compadd -- console ${(f)\"$(uporter values sites 2>/dev/null)\"}; _files }\n";
  const auto list = [&out](const CLI::App& of, const std::string& indent) {
    out += indent + "local -a commands=(\n";
    for (const CLI::App* const command : commands_of(of))
      out +=
          fmt::format("{}  '{}:{}'\n", indent, command->get_name(), zsh_text(first_line(command->get_description())));
    out += indent + ")\n" + indent + "_describe command commands\n";
  };
  out += "_uporter() {\n  if (( CURRENT == 2 )); then\n";
  list(app, "    ");
  out += "    return\n  fi\n  local command=${words[2]}\n  case $command in\n";
  for (const auto& [name, command] : all_commands(app)) {
    if (!commands_of(*command).empty()) {
      out += fmt::format("    {})\n      if (( CURRENT == 3 )); then\n", name);
      list(*command, "        ");
      out +=
          "        return\n      fi\n      command=\"$command ${words[3]}\"\n      shift words; (( CURRENT-- )) ;;\n";
    }
  }
  out += "  esac\n  shift words; (( CURRENT-- ))\n  case $command in\n";
  for (const auto& [name, command] : all_commands(app)) {
    out += fmt::format("    '{}') _arguments", name);
    for (const CLI::Option* const option : options_of(*command, false)) {
      out += fmt::format(" '--{}[{}]", option->get_lnames().front(), zsh_text(option->get_description()));
      if (const std::string value = value_name(*option); !value.empty())
        out += fmt::format(":{}:{}", value, offered(*option, kOfZsh));
      out += "'";
    }
    for (const CLI::Option* const option : options_of(*command, true))
      out += fmt::format(" ':{}:{}'", option->get_name(), name == "open" ? "_uporter_open" : offered(*option, kOfZsh));
    out += " ;;\n";
  }
  return out + "  esac\n}\n_uporter \"$@\"\n";
}

}  // namespace

std::string value_name(const CLI::Option& option) {
  if (option.get_lnames().empty() || option.get_items_expected_max() == 0) return {};
  static const std::map<std::string, const char*> kValues = {
      {"port", "PORT"},     {"at", "PORT"},       {"host", "HOST"},       {"root-of", "HOST"},
      {"site", "SITE"},     {"har", "FILE"},      {"body", "FILE"},       {"limit", "NUMBER"},
      {"settings", "FILE"}, {"folder", "FOLDER"}, {"fallback", "SCRIPT"}, {"document-root", "FOLDER"},
      {"header", "FIELD"},  {"without", "NAME"},  {"text", "WORDS"}};
  if (option.get_type_name() == "URL") return "URL";
  const auto found = kValues.find(option.get_lnames().front());
  return found == kValues.end() ? "VALUE" : found->second;
}

int write_reference(const CLI::App& app, const std::string& folder, const std::string& settings) {
  const auto text = files::content_of(settings);
  if (!text) return fail(fmt::format("The settings {} cannot be read.", text::escape_line(settings)), kBadUse);
  const fs::path to(folder);
  bool is_written = write(to / "man/uporter.1", page_of_all(app)) && write(to / "man/uporterd.8", page_of_server()) &&
                    write(to / "man/uporter.toml.5", page_of_settings(*text)) &&
                    write(to / "completions/uporter.bash", bash(app)) &&
                    write(to / "completions/uporter.fish", fish(app)) && write(to / "completions/_uporter", zsh(app));
  for (const CLI::App* const command : commands_of(app))
    is_written = is_written && write(to / ("man/uporter-" + command->get_name() + ".1"),
                                     page_of(*command, "uporter " + command->get_name()));
  return is_written ? kFine : fail(fmt::format("{} cannot be written to.", text::escape_line(folder)));
}

int print_values(const std::string& settings, const std::string& kind) {
  const auto found = find_server(ServerChoice{settings, 0, "uporter values"});
  const auto* const instance = std::get_if<machine::Instance>(&found);
  if (instance == nullptr) return kFailed;
  if (kind == "sites" && !machine::lock_holder(*instance)) {
    for (const Site& site : machine::read_settings_file(instance->settings).settings.sites)
      fmt::print("{}\n", text::escape_line(site.name));
    return kFine;
  }
  const Reply reply = ask(*instance, "GET", kind == "sites" ? "/v1/sites" : "/v1/exchanges?limit=40");
  if (reply.status != 200) return kFailed;
  for (const auto& one : reply.body.value(kind, nlohmann::json::array()))
    fmt::print("{}\n",
               kind == "sites" ? text::escape_line(one.value("name", "")) : std::to_string(one.value("number", 0)));
  return kFine;
}

}  // namespace porter::client
