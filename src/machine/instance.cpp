// Places and locks of a server. See instance.hpp.
#include "machine/instance.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <pwd.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <charconv>
#include <cstdint>
#include <cstdlib>
#include <filesystem>
#include <memory>
#include <string_view>

#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/text/text.hpp"

namespace porter::machine {
namespace {

constexpr std::string_view kOwn = "upright-porter";

std::string variable(const char* name) {
  const char* const value = std::getenv(name);
  return value != nullptr && value[0] == '/' ? value : "";
}

/// The number of a process that stands in `file`; 0 if none does.
pid_t written_in(int file) {
  std::array<char, 16> text{};
  const ssize_t got = ::pread(file, text.data(), text.size() - 1, 0);
  pid_t id = 0;
  if (got > 0) std::from_chars(text.data(), text.data() + got, id);
  return id > 1 ? id : 0;
}

/// True if the process `id` has `file` open. Whoever holds a lock has; a number that was left in it by another does
/// not.
bool has_open(pid_t id, const struct stat& file) {
  const std::string folder = "/proc/" + std::to_string(id) + "/fd";
  const std::unique_ptr<DIR, int (*)(DIR*)> open(::opendir(folder.c_str()), ::closedir);
  while (const dirent* const entry = open ? ::readdir(open.get()) : nullptr) {
    struct stat info {};
    if (::stat((folder + "/" + entry->d_name).c_str(), &info) == 0 && info.st_ino == file.st_ino &&
        info.st_dev == file.st_dev)
      return true;
  }
  return false;
}

struct LockState {
  bool is_held = false;
  pid_t holder = 0;  ///< The process written in it; 0: none.
};

LockState look_at_lock(const Instance& instance) {
  const files::Descriptor file(::open(instance.lock.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW));
  if (!file.is_open()) return {};
  LockState state{::flock(file.get(), LOCK_SH | LOCK_NB) != 0, written_in(file.get())};
  struct stat info {};
  // Between taking the lock and writing its name a new server is not yet in it, but a killed one may be.
  if (state.is_held && (::fstat(file.get(), &info) != 0 || !has_open(state.holder, info))) state.holder = 0;
  return state;
}

}  // namespace

bool make_private(const std::string& folder) {
  std::error_code error;
  std::filesystem::create_directories(std::filesystem::path(folder).parent_path(), error);
  return (::mkdir(folder.c_str(), 0700) == 0 || errno == EEXIST) && ::chmod(folder.c_str(), 0700) == 0;
}

std::string state_folder() {
  std::string state = variable("XDG_STATE_HOME");
  if (state.empty()) state = home_folder() + "/.local/state";
  return state + "/" + std::string(kOwn) + "/";
}

namespace {

/// Where sockets and locks are.
std::string runtime_folder() {
  const std::string runtime = variable("XDG_RUNTIME_DIR");
  return runtime.empty() ? state_folder() : runtime + "/" + std::string(kOwn) + "/";
}

/// The places of a server that is known by `path`.
Instance known_by(const std::string& path, const std::string& named, const std::string& settings) {
  Instance instance;
  instance.named = named;
  instance.known_by = path;
  instance.settings = settings;
  instance.folder = runtime_folder() + text::short_name(path);
  instance.socket = instance.folder + "/control";
  instance.lock = instance.folder + "/lock";
  instance.log = state_folder() + text::short_name(path) + "/server.log";
  instance.console_key = instance.folder + "/console-key";
  return instance;
}

/// What the second line of a lock says of the server that holds it.
std::string subject_line(const Instance& instance) {
  return instance.settings.empty() ? "folder " + instance.root : "settings " + instance.settings;
}

/// The instance whose places are in `folder`, by what its lock says; nullopt: that is no lock of a server.
std::optional<Instance> instance_in(const std::string& folder) {
  Instance instance;
  instance.folder = folder;
  instance.socket = folder + "/control";
  instance.lock = folder + "/lock";
  const auto text = files::content_of(instance.lock).value_or("");
  const std::size_t line = text.find('\n') + 1;
  const std::string subject = text.substr(line, text.find('\n', line) - line);
  if (line == 0 || (!subject.starts_with("folder ") && !subject.starts_with("settings "))) return std::nullopt;
  const std::string path = subject.substr(subject.find(' ') + 1);
  if (subject.starts_with("folder ")) {
    instance.root = path;
  } else {
    instance.named = instance.settings = path;
    instance.log = known_by(path, path, path).log;
  }
  return instance;
}

/// The folders in which servers have their places.
std::vector<std::string> place_folders() {
  std::vector<std::string> out;
  std::error_code error;
  const std::filesystem::path all = runtime_folder();
  for (std::filesystem::directory_iterator entry(all, error), end; !error && entry != end; entry.increment(error))
    out.push_back(entry->path().string());
  return out;
}

void remove_places(const Instance& instance) {
  ::unlink(instance.socket.c_str());
  ::unlink(instance.lock.c_str());
  ::rmdir(instance.folder.c_str());
}

}  // namespace

std::string Instance::option() const { return settings.empty() ? "" : settings_option(settings); }

Instance instance_for_folder(const std::string& root) {
  Instance instance = known_by(root + "\n" + std::to_string(::getpid()), "", "");
  instance.root = root;
  // Its places go with it, and the same folder served again is meant to be the same console.
  instance.console_key = runtime_folder() + ".console-keys/" + text::short_name(root);
  instance.log.clear();
  return instance;
}

std::vector<Instance> running_instances() {
  std::vector<Instance> out;
  for (const std::string& folder : place_folders()) {
    auto instance = instance_in(folder);
    struct stat socket {};
    // Further names of a server have a link in the place of the socket.
    const bool is_own_name = instance && ::lstat(instance->socket.c_str(), &socket) == 0 && S_ISSOCK(socket.st_mode);
    if (is_own_name && look_at_lock(*instance).is_held) out.push_back(std::move(*instance));
  }
  return out;
}

void remove_folder_instances(const Instance& own) {
  remove_places(own);
  for (const std::string& folder : place_folders()) {
    const auto instance = instance_in(folder);
    if (instance && !instance->root.empty() && !look_at_lock(*instance).is_held) remove_places(*instance);
  }
}

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
  if (!named.empty())
    return std::filesystem::path(named.starts_with('/') ? named : here + "/" + named).lexically_normal().string();
  if (::access((here + "/uporter.toml").c_str(), F_OK) == 0) return here + "/uporter.toml";
  return config_folder() + "/" + std::string(kOwn) + "/uporter.toml";
}

std::string without_links(const std::string& path) {
  std::error_code error;
  const std::filesystem::path real = std::filesystem::weakly_canonical(path, error);
  return error ? path : real.string();
}

Instance instance_for(const std::string& named) {
  const std::string real = without_links(named);
  return known_by(real, named, real);
}

Instance find_instance(const std::string& named) {
  const std::string path = find_settings_file(named);
  Instance instance = instance_for(path);
  if (instance.settings == path || look_at_lock(instance).is_held) return instance;
  Instance other = known_by(path, path, instance.settings);
  return look_at_lock(other).is_held ? other : instance;
}

std::optional<OtherName> OtherName::take(const Instance& instance, const std::string& path) {
  const Instance other = known_by(path, path, instance.settings);
  if (make_folders(other)) return std::nullopt;
  files::Descriptor lock = take_lock(other);
  if (!lock.is_open()) return std::nullopt;
  // The lock is held, so whatever stands in this place was left behind.
  ::unlink(other.socket.c_str());
  if (::symlink(instance.socket.c_str(), other.socket.c_str()) != 0) return std::nullopt;
  return OtherName(path, other.socket, std::move(lock));
}

OtherName::~OtherName() {
  if (!lock_.is_open()) return;
  ::unlink(socket_.c_str());
  [[maybe_unused]] const int cut = ::ftruncate(lock_.get(), 0);
}

SettingsRead read_settings_file(const std::string& file) {
  SettingsRead read = load_settings(file, home_folder());
  read.settings.option = settings_option(file);
  return read;
}

std::optional<Finding> make_folders(const Instance& instance) {
  const auto failed = [](const std::string& folder, const std::string& reason) {
    return Finding{Code::state_failed, {{"folder", folder}, {"reason", reason}}};
  };
  const std::string logs(instance.log.empty() ? instance.folder : files::folder_of(instance.log));
  for (const std::string& folder : {instance.folder, logs})
    if (!make_private(folder)) return failed(folder, files::describe({errno}));
  constexpr std::size_t kLongestSocketPath = 107;
  if (instance.socket.size() > kLongestSocketPath)
    return failed(instance.folder, "the path of the control socket would be too long for the system");
  return std::nullopt;
}

files::Descriptor take_lock(const Instance& instance) {
  files::Descriptor file(::open(instance.lock.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0600));
  if (!file.is_open() || ::flock(file.get(), LOCK_EX | LOCK_NB) != 0) return files::Descriptor();
  const std::string text = std::to_string(::getpid()) + "\n" + subject_line(instance) + "\n";
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
  return without_links(find_settings_file("")) == without_links(settings) ? ""
                                                                          : " --settings " + text::shell_word(settings);
}

}  // namespace porter::machine
