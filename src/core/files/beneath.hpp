// Looking files up below a folder in such a way that no "..", no link and no race leads out of it.
//
// The kernel does the guarding (openat2 with RESOLVE_BENEATH), in one step with the opening, so what was checked is
// what is opened. What has been found is opened for reading through its own handle and not by its path again, so
// nothing that takes its place meanwhile is read. All functions may be called from any thread.
#pragma once

#include <sys/stat.h>

#include <span>
#include <string>
#include <unordered_map>
#include <variant>

#include "core/files/descriptor.hpp"

namespace porter::files {

/// The errno of a failed system call.
struct SystemError {
  int number = 0;
};

/// The text for `number`, such as "No such file or directory".
std::string describe(SystemError error);

/// True for what says nothing of the file that was asked for: the server has no descriptors or no memory left.
bool is_lack_of_resources(SystemError error);

/// A folder below which files are opened. It is held open, so it stays the same folder when its path is renamed.
class Folder {
 public:
  /// Opens the folder at `path`, an absolute path.
  static std::variant<Folder, SystemError> open(const std::string& path);

  /// Opens `relative` (empty: the folder itself) with `flags` of open(2). Links are followed while they stay below
  /// the folder, absolute ones included. The error is EXDEV when the path leads out, ELOOP through a magic link.
  std::variant<Descriptor, SystemError> open_beneath(const std::string& relative, int flags) const;
  /// The same, but follows no link: the error is ELOOP where one stands in the way.
  std::variant<Descriptor, SystemError> open_without_links(const std::string& relative, int flags) const;

  /// What a link below this folder leads to outside of it, in one of the folders `allowed` (real paths).
  struct Linked {
    Descriptor handle;
    const std::string* folder;  ///< That one, among `allowed`.
  };
  /// Opens `relative`, which leads out of this folder, if it leads into one of `allowed`. EXDEV: into none.
  std::variant<Linked, SystemError> open_linked(const std::string& relative, int flags,
                                                std::span<const std::string> allowed) const;

  /// Where the folder really lay when it was opened: an absolute path without links.
  const std::string& real_path() const { return path_; }
  const Descriptor& handle() const { return handle_; }

 private:
  Folder(Descriptor handle, std::string path) : handle_(std::move(handle)), path_(std::move(path)) {}

  Descriptor handle_;
  std::string path_;
};

/// The path that an open file has now, without links; empty if it has none any more.
std::string path_of(const Descriptor& file);

/// Opens what `handle` (O_PATH will do) stands for with `flags` of open(2), whatever lies at its path by now. `judged`
/// is what fstat() said of it; the error is ESTALE should another file come of it. Never waits for a reader or writer.
std::variant<Descriptor, SystemError> reopen(const Descriptor& handle, const struct stat& judged, int flags);

/// The first file called `name` in the folders of `search_path` (separated by colons) that can be executed; `name`
/// itself if it holds a slash and can be executed; else empty.
std::string find_program(const std::string& name, const std::string& search_path);

/// Remembers where programs were found, until it is told to forget: looking for one takes a look into each folder.
class ProgramsFound {
 public:
  /// As find_program(); what was not found is looked for each time.
  const std::string& find(const std::string& name, const std::string& search_path);
  void forget() { found_.clear(); }

 private:
  std::unordered_map<std::string, std::string> found_;
};

}  // namespace porter::files
