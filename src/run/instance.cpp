// Places and locks of a server. See instance.hpp.
#include "run/instance.hpp"

#include <fcntl.h>
#include <pwd.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <climits>
#include <cstdint>
#include <cstdlib>
#include <filesystem>
#include <string_view>

#include "core/files/beneath.hpp"
#include "core/files/paths.hpp"
#include "core/text/text.hpp"
#include "run/environment.hpp"

namespace porter::run {
namespace {

constexpr std::string_view kOwn = "upright-porter";

std::string variable(const char* name) {
  const char* const value = std::getenv(name);
  return value != nullptr && value[0] == '/' ? value : "";
}

/// The path without links as far as it exists.
std::string without_links(const std::string& path) {
  std::array<char, PATH_MAX> real{};
  if (::realpath(path.c_str(), real.data()) != nullptr) return real.data();
  const std::string folder(files::folder_of(path));
  if (!folder.empty() && ::realpath(folder.c_str(), real.data()) != nullptr)
    return std::string(real.data()) + "/" + std::string(files::base_name(path));
  return path;
}

/// A short name for a path that is another for every other path (FNV-1a).
std::string short_name(const std::string& path) {
  std::uint64_t hash = 14695981039346656037ULL;
  for (const char c : path) hash = (hash ^ static_cast<unsigned char>(c)) * 1099511628211ULL;
  constexpr std::string_view kDigits = "0123456789abcdef";
  std::string out;
  for (int shift = 60; shift >= 0; shift -= 4) out += kDigits[(hash >> shift) & 15];
  return out;
}

bool make_private(const std::string& folder) {
  std::error_code error;
  std::filesystem::create_directories(std::filesystem::path(folder).parent_path(), error);
  return (::mkdir(folder.c_str(), 0700) == 0 || errno == EEXIST) && ::chmod(folder.c_str(), 0700) == 0;
}

pid_t written_in(int file) {
  std::array<char, 16> text{};
  return ::pread(file, text.data(), text.size() - 1, 0) > 0 ? static_cast<pid_t>(std::atol(text.data())) : 0;
}

struct LockState {
  bool is_held = false;
  pid_t holder = 0;  ///< The process written in it; 0: none.
};

LockState look_at_lock(const Instance& instance) {
  const files::Descriptor file(::open(instance.lock.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW));
  if (!file.is_open()) return {};
  return {::flock(file.get(), LOCK_SH | LOCK_NB) != 0, written_in(file.get())};
}

}  // namespace

std::string home_folder() {
  std::string home = variable("HOME");
  if (home.empty())
    if (const passwd* const entry = ::getpwuid(::getuid())) home = entry->pw_dir;
  return home.empty() ? "/" : home;
}

std::string config_folder() {
  // A relative path is to be ignored (XDG Base Directory Specification).
  const std::string folder = variable("XDG_CONFIG_HOME");
  return folder.starts_with('/') ? folder : home_folder() + "/.config";
}

std::string find_settings_file(const std::string& named) {
  const std::string here = std::filesystem::current_path().string();
  if (!named.empty()) return without_links(named.starts_with('/') ? named : here + "/" + named);
  if (::access((here + "/porter.toml").c_str(), F_OK) == 0) return without_links(here + "/porter.toml");
  return without_links(config_folder() + "/" + std::string(kOwn) + "/porter.toml");
}

Instance instance_for(const std::string& settings) {
  std::string state = variable("XDG_STATE_HOME");
  if (state.empty()) state = home_folder() + "/.local/state";
  state += "/" + std::string(kOwn) + "/" + short_name(settings);
  const std::string runtime = variable("XDG_RUNTIME_DIR");
  Instance instance;
  instance.settings = settings;
  instance.folder = runtime.empty() ? state : runtime + "/" + std::string(kOwn) + "/" + short_name(settings);
  instance.socket = instance.folder + "/control";
  instance.lock = instance.folder + "/lock";
  instance.log = state + "/server.log";
  return instance;
}

Instance find_instance(const std::string& named) { return instance_for(find_settings_file(named)); }

SettingsRead read_settings_file(const std::string& file) {
  SettingsRead read = load_settings(file, home_folder());
  read.settings.search_path = search_path();
  return read;
}

std::optional<std::string> make_folders(const Instance& instance) {
  const std::string logs(files::folder_of(instance.log));
  for (const std::string& folder : {instance.folder, logs}) {
    if (make_private(folder)) continue;
    return "The folder " + text::escape_line(folder) +
           " for the server's state cannot be made: " + files::describe({errno}) +
           ". Allow it, or name another place: XDG_STATE_HOME=FOLDER";
  }
  constexpr std::size_t kLongestSocketPath = 107;
  if (instance.socket.size() > kLongestSocketPath)
    return "The path of the control socket is too long for the system: " + text::escape_line(instance.socket) +
           ". Name a shorter place: XDG_RUNTIME_DIR=FOLDER";
  return std::nullopt;
}

files::Descriptor take_lock(const Instance& instance) {
  files::Descriptor file(::open(instance.lock.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0600));
  if (!file.is_open() || ::flock(file.get(), LOCK_EX | LOCK_NB) != 0) return files::Descriptor();
  const std::string text = std::to_string(::getpid()) + "\n";
  if (::ftruncate(file.get(), 0) != 0 ||
      ::pwrite(file.get(), text.data(), text.size(), 0) != static_cast<ssize_t>(text.size()))
    return files::Descriptor();
  return file;
}

std::optional<pid_t> lock_holder(const Instance& instance) {
  const LockState state = look_at_lock(instance);
  return state.is_held ? std::optional(state.holder) : std::nullopt;
}

std::optional<pid_t> killed_holder(const Instance& instance) {
  const LockState state = look_at_lock(instance);
  // A server that stops takes its name out of the lock.
  return !state.is_held && state.holder > 0 ? std::optional(state.holder) : std::nullopt;
}

std::string settings_option(const std::string& settings) {
  return find_settings_file("") == settings ? "" : " --settings " + text::shell_word(settings);
}

}  // namespace porter::run
