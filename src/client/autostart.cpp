// Writing, enabling and removing the unit. The service manager is told by systemctl, as a person would.
#include "client/autostart.hpp"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <vector>

#include "client/output.hpp"
#include "client/serve.hpp"
#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"
#include "machine/instance.hpp"
#include "machine/port_holder.hpp"

namespace porter::client {
namespace {

namespace fs = std::filesystem;

/// A word of ExecStart, quoted as systemd.service(5) has it.
std::string unit_word(const std::string& word) {
  std::string out = "\"";
  for (const char c : word) {
    if (c == '"' || c == '\\') out += '\\';
    if (c == '%' || c == '$') out += c;
    out += c;
  }
  return out + "\"";
}

struct Unit {
  std::string name;
  std::string file;
};

Unit unit_of(const machine::Instance& instance) {
  // The name of the instance's folder is another for every settings file.
  const std::string name = "upright-porter-" + std::string(files::base_name(instance.folder)).substr(0, 8) + ".service";
  return {name, machine::config_folder() + "/systemd/user/" + name};
}

std::string unit_text(const machine::Instance& instance) {
  return fmt::format(
      "[Unit]\nDescription=Upright Porter for {}\n\n[Service]\nType=notify\nExecStart={} --settings {}\n"
      "ExecReload={} reload --settings "
      "{}\nRestart=on-failure\nTimeoutStopSec=30\n\n[Install]\nWantedBy=default.target\n",
      text::escape_line(instance.settings), unit_word(server_program()), unit_word(instance.settings),
      unit_word(client_program()), unit_word(instance.settings));
}

/// Where the service manager keeps what it is to start at login, as `systemctl enable` puts it there.
std::string wanted_link(const Unit& unit) {
  return machine::config_folder() + "/systemd/user/default.target.wants/" + unit.name;
}

/// Runs systemctl --user; true if it has done what it was asked for.
bool systemctl(std::vector<std::string> words) {
  words.insert(words.begin(), {"systemctl", "--user"});
  return run_here("systemctl", std::move(words)) == 0;
}

/// Tells of ports that a server started at login may not open.
void tell_reserved_ports(const Settings& settings) {
  for (const Listener& listener : settings.listeners())
    if (listener.address.port < machine::first_open_port())
      fail(Finding{Code::port_reserved, {{"port", std::to_string(listener.address.port)}}});
}

bool write(const std::string& path, const std::string& text) {
  std::ofstream file(path, std::ios::trunc);
  file << text;
  file.close();
  return static_cast<bool>(file);
}

int show(const machine::Instance& instance, const Unit& unit);

/// Tells programs what holds now, which is what was wanted.
int show_done(const machine::Instance& instance, const Unit& unit) {
  show(instance, unit);
  return kFine;
}

int turn_on(const machine::Instance& instance, const Unit& unit) {
  const SettingsRead read = machine::read_settings_file(instance.settings);
  if (!read.problems.empty()) return fail(read.problems);
  const auto before = files::content_of(unit.file);
  std::error_code error;
  fs::create_directories(fs::path(unit.file).parent_path(), error);
  if (!write(unit.file, unit_text(instance)))
    return fail(fmt::format("The unit {} cannot be written: {}.", text::escape_line(unit.file), std::strerror(errno)));
  // A server that was started by hand holds the lock; the unit takes over at the next login.
  const bool runs = machine::lock_holder(instance).has_value();
  if (systemctl({"daemon-reload"}) && systemctl(runs ? std::vector<std::string>{"enable", unit.name}
                                                     : std::vector<std::string>{"enable", "--now", unit.name})) {
    tell_reserved_ports(read.settings);
    if (is_json_wanted()) return show_done(instance, unit);
    fmt::print("Written: {}\n", text::escape_line(unit.file));
    fmt::print("The server starts at login from now on{}.\n", runs ? "; it runs already" : ", and has been started");
    return kFine;
  }
  // What nobody starts must not look as if it were started.
  if (before) {
    write(unit.file, *before);
  } else {
    ::unlink(unit.file.c_str());
  }
  return fail(Finding{Code::autostart_unavailable,
                      {{"client", text::shell_word(client_program())},
                       {"settings", text::shell_word(instance.settings)},
                       {"option", instance.option()}}});
}

int turn_off(const machine::Instance& instance, const Unit& unit) {
  if (::access(unit.file.c_str(), F_OK) != 0) {
    if (is_json_wanted()) return show_done(instance, unit);
    fmt::print("The server does not start at login.\n");
    return kFine;
  }
  // One that runs is left alone: it is about the next login.
  systemctl({"disable", unit.name});
  if (::unlink(unit.file.c_str()) != 0)
    return fail(fmt::format("The unit {} cannot be removed: {}.", text::escape_line(unit.file), std::strerror(errno)));
  systemctl({"daemon-reload"});
  if (is_json_wanted()) return show_done(instance, unit);
  fmt::print("Removed: {}\n", text::escape_line(unit.file));
  if (machine::lock_holder(instance))
    fmt::print("The server that runs goes on until it is stopped: uporter stop{}\n", instance.option());
  return kFine;
}

int show(const machine::Instance& instance, const Unit& unit) {
  struct stat info {};
  const bool has_unit = ::access(unit.file.c_str(), F_OK) == 0;
  const bool is_on = has_unit && ::lstat(wanted_link(unit).c_str(), &info) == 0;
  const bool is_right = is_on && files::content_of(unit.file) == unit_text(instance);
  if (is_json_wanted()) {
    print_json({{"starts_at_login", is_on},
                {"is_up_to_date", is_right},
                {"unit", has_unit ? text::to_utf8(unit.file) : ""},
                {"settings", text::to_utf8(instance.settings)}});
    return is_right ? kFine : kFailed;
  }
  if (!is_on) {
    fmt::print("The server does not start at login{}. To have it so: uporter autostart on{}\n",
               has_unit ? ": its unit " + text::escape_line(unit.file) + " is not enabled" : "", instance.option());
    return kFailed;
  }
  fmt::print("The server starts at login: {}\n", text::escape_line(unit.file));
  if (!is_right)
    return fail(
        fmt::format("The unit is for another place or version of the program. Write it again: uporter autostart on{}",
                    instance.option()));
  return kFine;
}

}  // namespace

int run_autostart(const std::string& settings, Autostart wish) {
  const machine::Instance instance = machine::find_instance(settings);
  const Unit unit = unit_of(instance);
  if (wish == Autostart::on) return turn_on(instance, unit);
  return wish == Autostart::off ? turn_off(instance, unit) : show(instance, unit);
}

}  // namespace porter::client
