// Editing and writing the settings file. See settings_edit.hpp.
#include "run/settings_edit.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <filesystem>

#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "run/environment.hpp"
#include "run/instance.hpp"

namespace porter::run {
namespace {

/// Writes the file in one step: a new one takes its place, with its permissions. errno if that fails.
int replace_file(const std::string& path, const std::string& text) {
  struct stat info {};
  const mode_t mode = ::stat(path.c_str(), &info) == 0 ? info.st_mode & 07777 : 0644;
  const std::string fresh = path + ".new-" + std::to_string(::getpid());
  const files::Descriptor file(::open(fresh.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode));
  if (!file.is_open()) return errno;
  int error = 0;
  if (::write(file.get(), text.data(), text.size()) != static_cast<ssize_t>(text.size()))
    error = errno != 0 ? errno : EIO;
  if (error == 0 && (::fchmod(file.get(), mode) != 0 || ::fsync(file.get()) != 0)) error = errno;
  if (error == 0 && ::rename(fresh.c_str(), path.c_str()) != 0) error = errno;
  if (error != 0) ::unlink(fresh.c_str());
  return error;
}

}  // namespace

SettingsEdited edit_settings(const std::string& file, const SettingsEdit& edit) {
  SettingsEdited out;
  // What is wrong already is told before anything is changed.
  SettingsRead now = load_settings(file, home_folder());
  if (!now.problems.empty()) {
    out.problems = std::move(now.problems);
    return out;
  }
  auto content = files::content_of(file);
  out.existed = content.has_value();
  out.before = std::move(content).value_or("");
  auto edited = edit_text(out.before, edit);
  if (auto* const finding = std::get_if<Finding>(&edited)) {
    out.problems.push_back({std::move(*finding), file, 0, 0, {}});
    return out;
  }
  const std::string& text = std::get<std::string>(edited);
  SettingsRead after = read_settings(text, file, home_folder());
  if (!after.problems.empty()) {
    out.problems = std::move(after.problems);
    return out;
  }
  std::error_code ignored;
  std::filesystem::create_directories(std::string(files::folder_of(file)), ignored);
  if (const int error = replace_file(file, text)) {
    out.problems.push_back({{Code::settings_edit_refused,
                             {{"problem", "The settings " + file + " cannot be written: " + files::describe({error})},
                              {"advice", "Allow writing in its folder, or edit it by hand."}}},
                            file,
                            0,
                            0,
                            {}});
    return out;
  }
  out.settings = std::move(after.settings);
  out.settings.search_path = search_path();
  return out;
}

void undo_edit(const std::string& file, const SettingsEdited& edited) {
  if (edited.existed) {
    replace_file(file, edited.before);
  } else {
    ::unlink(file.c_str());
  }
}

}  // namespace porter::run
