// Editing and writing the settings file. See settings_edit.hpp.
#include "machine/settings_edit.hpp"

#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <filesystem>
#include <string_view>
#include <thread>

#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/instance.hpp"

namespace porter::machine {
namespace {

constexpr int kMostTries = 1000;
constexpr std::chrono::milliseconds kBetweenTries{5};

/// Writes the file in one step: a new one takes its place, with its permissions. errno if that fails.
int replace_file(const std::string& path, const std::string& text) {
  struct stat info {};
  const mode_t mode = ::stat(path.c_str(), &info) == 0 ? info.st_mode & 07777 : 0644;
  const std::string fresh = path + ".new-" + std::to_string(::getpid());
  ::unlink(fresh.c_str());  // Of another process that had this number and was killed.
  const files::Descriptor file(::open(fresh.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode));
  if (!file.is_open()) return errno;
  int error = 0;
  for (std::string_view rest = text; !rest.empty() && error == 0;) {
    const ssize_t written = ::write(file.get(), rest.data(), rest.size());
    if (written > 0) rest.remove_prefix(static_cast<std::size_t>(written));
    if (written <= 0 && errno != EINTR) error = written < 0 ? errno : ENOSPC;
  }
  if (error == 0 && (::fchmod(file.get(), mode) != 0 || ::fsync(file.get()) != 0)) error = errno;
  if (error == 0 && ::rename(fresh.c_str(), path.c_str()) != 0) error = errno;
  if (error != 0) ::unlink(fresh.c_str());
  return error;
}

SettingsEdited not_written(const std::string& file, const std::string& reason, const std::string& advice) {
  SettingsEdited out;
  out.problems.push_back({{Code::settings_edit_refused,
                           {{"problem", "The settings " + file + " cannot be written: " + reason}, {"advice", advice}}},
                          file,
                          0,
                          0,
                          {}});
  return out;
}

/// Whoever edits the settings holds their folder locked from the reading to the renaming: not the file, since another
/// one takes its place. Not open: the lock could not be had in time, or at all (errno).
files::Descriptor lock_folder(const std::string& folder) {
  files::Descriptor handle(::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!handle.is_open()) return handle;
  for (int i = 0; i < kMostTries; ++i) {
    if (::flock(handle.get(), LOCK_EX | LOCK_NB) == 0) return handle;
    if (errno != EWOULDBLOCK && errno != EINTR) break;
    std::this_thread::sleep_for(kBetweenTries);
  }
  return files::Descriptor();
}

/// Writes `text`, of which `read` is what was read, and completes `out` with both.
SettingsEdited put_in_place(const std::string& file, const std::string& text, SettingsRead read, SettingsEdited out) {
  if (const int error = replace_file(file, text))
    return not_written(file, files::describe({error}), "Allow writing in its folder, or edit it by hand.");
  out.after = text;
  out.settings = std::move(read.settings);
  out.standing = std::move(read.standing);
  return out;
}

/// The edit itself, with the folder locked.
SettingsEdited edit_locked(const std::string& file, const SettingsEdit& edit) {
  SettingsEdited out;
  // What is wrong already is told before anything is changed.
  SettingsRead now = load_settings(file, home_folder());
  if (!now.problems.empty()) {
    out.problems = std::move(now.problems);
    return out;
  }
  out.existed = now.text.has_value();
  out.before = std::move(now.text).value_or("");
  SettingsEdit wanted = edit;
  wanted.option = settings_option(file);
  auto edited = edit_text(out.before, wanted);
  if (auto* const finding = std::get_if<Finding>(&edited)) {
    out.problems.push_back({std::move(*finding), file, 0, 0, {}});
    return out;
  }
  const std::string& text = std::get<std::string>(edited);
  SettingsRead after = read_settings(text, file, home_folder());
  // What is added or changed has to be there.
  for (const SettingsProblem& problem : after.standing)
    if (!edit.folder.empty() && problem.finding.fact("site") == edit.site) after.problems.push_back(problem);
  if (!after.problems.empty()) {
    out.problems = std::move(after.problems);
    return out;
  }
  // An editor does not know of the lock.
  if (files::content_of(file).value_or("") != out.before)
    return not_written(file, "they were saved by another program meanwhile", "Try again.");
  return put_in_place(file, text, std::move(after), std::move(out));
}

/// Does `change` with the folder of `file` locked.
template <typename Change>
SettingsEdited with_lock(const std::string& file, const Change& change) {
  const std::string folder(files::folder_of(file));
  std::error_code ignored;
  std::filesystem::create_directories(folder, ignored);
  const files::Descriptor lock = lock_folder(folder);
  if (!lock.is_open())
    return errno == EWOULDBLOCK
               ? not_written(file, "another program has been changing them for some seconds", "Try again in a moment.")
               : not_written(file, files::describe({errno}), "Allow writing in its folder, or edit it by hand.");
  return change();
}

SettingsEdited write_locked(const std::string& file, const std::string& version, const std::string& text) {
  SettingsEdited out;
  const auto now = files::content_of(file);
  if (version_of(now) != version) {
    out.problems.push_back({{Code::settings_changed_meanwhile, {{"file", file}}}, file, 0, 0, {}});
    return out;
  }
  SettingsRead after = read_settings(text, file, home_folder());
  if (!after.problems.empty()) {
    out.problems = std::move(after.problems);
    return out;
  }
  after.settings.option = settings_option(file);
  out.existed = now.has_value();
  out.before = now.value_or("");
  return put_in_place(file, text, std::move(after), std::move(out));
}

}  // namespace

SettingsEdited edit_settings(const std::string& file, const SettingsEdit& edit) {
  return with_lock(file, [&] { return edit_locked(file, edit); });
}

SettingsEdited write_settings(const std::string& file, const std::string& version, const std::string& text) {
  return with_lock(file, [&] { return write_locked(file, version, text); });
}

std::string version_of(const std::optional<std::string>& text) {
  return text ? text::short_name(*text) + "-" + std::to_string(text->size()) : "none";
}

void undo_edit(const std::string& file, const SettingsEdited& edited) {
  const files::Descriptor lock = lock_folder(std::string(files::folder_of(file)));
  // Somebody who has edited it since then has not seen what is wrong, and must not lose what was done.
  if (files::content_of(file) != edited.after) return;
  if (edited.existed) {
    replace_file(file, edited.before);
  } else {
    ::unlink(file.c_str());
  }
}

}  // namespace porter::machine
