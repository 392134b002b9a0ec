// openat2 below a folder. See beneath.hpp.
#include "core/files/beneath.hpp"

#include <fcntl.h>
#include <linux/openat2.h>
#include <sys/stat.h>
#include <sys/syscall.h>

#include <array>
#include <cerrno>
#include <climits>
#include <cstdint>
#include <cstdlib>
#include <system_error>

#include "core/files/paths.hpp"

namespace porter::files {
namespace {

std::variant<Descriptor, SystemError> open_strictly(int folder, const char* relative, int flags,
                                                    std::uint64_t also_refused = 0) {
  open_how how{};
  how.flags = static_cast<unsigned>(flags | O_CLOEXEC);
  how.resolve = RESOLVE_BENEATH | RESOLVE_NO_MAGICLINKS | also_refused;
  // EAGAIN: something was renamed meanwhile, and the kernel could not be sure that the path stayed inside.
  for (int attempt = 0; attempt < 16; ++attempt) {
    const long number = ::syscall(SYS_openat2, folder, *relative == '\0' ? "." : relative, &how, sizeof how);
    if (number >= 0) return Descriptor(static_cast<int>(number));
    if (errno != EAGAIN && errno != EINTR) break;
  }
  return SystemError{errno};
}

}  // namespace

std::string describe(SystemError error) { return std::generic_category().message(error.number); }

bool is_lack_of_resources(SystemError error) {
  return error.number == EMFILE || error.number == ENFILE || error.number == ENOMEM || error.number == ENOBUFS;
}

std::variant<Folder, SystemError> Folder::open(const std::string& path) {
  // Settings hold real paths, so mostly there is no link, and then the path needs no second look.
  open_how how{};
  how.flags = O_PATH | O_DIRECTORY | O_CLOEXEC;
  how.resolve = RESOLVE_NO_SYMLINKS;
  Descriptor handle(static_cast<int>(::syscall(SYS_openat2, AT_FDCWD, path.c_str(), &how, sizeof how)));
  if (handle.is_open() && path.starts_with('/')) return Folder(std::move(handle), path);
  if (!handle.is_open()) handle.reset(::open(path.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC));
  if (!handle.is_open()) return SystemError{errno};
  std::string real = path_of(handle);
  if (real.empty()) return SystemError{ENOENT};
  return Folder(std::move(handle), std::move(real));
}

std::variant<Descriptor, SystemError> Folder::open_beneath(const std::string& relative, int flags) const {
  auto opened = open_strictly(handle_.get(), relative.c_str(), flags);
  const SystemError* const error = std::get_if<SystemError>(&opened);
  if (error == nullptr || error->number != EXDEV) return opened;
  // An absolute link counts as leading out even when its target lies inside. Resolve it as a path, and open what that
  // gives as strictly as before: if anything was exchanged in between, this second opening still cannot get out.
  const std::string full = path_ + "/" + relative;
  std::array<char, PATH_MAX> real{};
  if (::realpath(full.c_str(), real.data()) == nullptr)
    return SystemError{errno == ENOENT || errno == ENOTDIR ? errno : EXDEV};
  const std::string_view target = real.data();
  if (target == path_) return open_strictly(handle_.get(), "", flags);
  // The root of the file system is the one folder whose path ends in a slash.
  const std::size_t root = path_ == "/" ? 0 : path_.size();
  if (target.substr(0, root) != path_.substr(0, root) || target.substr(root, 1) != "/") return SystemError{EXDEV};
  return open_strictly(handle_.get(), real.data() + root + 1, flags);
}

std::variant<Descriptor, SystemError> Folder::open_without_links(const std::string& relative, int flags) const {
  return open_strictly(handle_.get(), relative.c_str(), flags, RESOLVE_NO_SYMLINKS);
}

std::variant<Folder::Linked, SystemError> Folder::open_linked(const std::string& relative, int flags,
                                                              std::span<const std::string> allowed) const {
  const std::string full = path_ + "/" + relative;
  std::array<char, PATH_MAX> real{};
  if (::realpath(full.c_str(), real.data()) == nullptr)
    return SystemError{errno == ENOENT || errno == ENOTDIR ? errno : EXDEV};
  const std::string_view target = real.data();
  for (const std::string& folder : allowed) {
    if (!lies_in(target, folder)) continue;
    auto opened = Folder::open(folder);
    if (const auto* const error = std::get_if<SystemError>(&opened)) return *error;
    // As strictly as all else: whatever was exchanged since, this does not leave the folder.
    const std::string rest(target.substr(target == folder ? target.size() : folder == "/" ? 1 : folder.size() + 1));
    auto found = std::get<Folder>(opened).open_without_links(rest, flags);
    if (const auto* const error = std::get_if<SystemError>(&found)) return *error;
    return Linked{std::move(std::get<Descriptor>(found)), &folder};
  }
  return SystemError{EXDEV};
}

std::string path_of(const Descriptor& file) {
  const std::string link = "/proc/self/fd/" + std::to_string(file.get());
  std::array<char, PATH_MAX> target{};
  const ssize_t length = ::readlink(link.c_str(), target.data(), target.size());
  if (length <= 0 || static_cast<std::size_t>(length) == target.size()) return {};
  std::string path(target.data(), static_cast<std::size_t>(length));
  if (!path.ends_with(" (deleted)")) return path;
  // So ends the path of a file that has been removed, and of one that is really called so.
  struct stat named {};
  struct stat open {};
  const bool is_real = ::lstat(path.c_str(), &named) == 0 && ::fstat(file.get(), &open) == 0 &&
                       named.st_ino == open.st_ino && named.st_dev == open.st_dev;
  return is_real ? path : std::string();
}

std::variant<Descriptor, SystemError> reopen(const Descriptor& handle, const struct stat& judged, int flags) {
  const std::string link = "/proc/self/fd/" + std::to_string(handle.get());
  Descriptor file;
  do file.reset(::open(link.c_str(), flags | O_NONBLOCK | O_NOCTTY | O_CLOEXEC));
  while (!file.is_open() && errno == EINTR);
  if (!file.is_open()) return SystemError{errno};
  struct stat now {};
  if (::fstat(file.get(), &now) != 0) return SystemError{errno};
  const bool is_same =
      now.st_ino == judged.st_ino && now.st_dev == judged.st_dev && (now.st_mode & S_IFMT) == (judged.st_mode & S_IFMT);
  if (!is_same) return SystemError{ESTALE};
  return file;
}

std::string find_program(const std::string& name, const std::string& search_path) {
  const auto is_program = [](const std::string& path) {
    struct stat info {};
    return ::stat(path.c_str(), &info) == 0 && S_ISREG(info.st_mode) && ::access(path.c_str(), X_OK) == 0;
  };
  if (name.find('/') != name.npos) return is_program(name) ? name : std::string();
  for (std::size_t at = 0; at <= search_path.size();) {
    const std::size_t end = std::min(search_path.find(':', at), search_path.size());
    const std::string folder = search_path.substr(at, end - at);
    // An empty or relative entry would depend on the folder that the server was started in.
    if (folder.starts_with('/') && is_program(folder + "/" + name)) return folder + "/" + name;
    at = end + 1;
  }
  return {};
}

const std::string& ProgramsFound::find(const std::string& name, const std::string& search_path) {
  std::string& path = found_[name];
  if (path.empty()) path = find_program(name, search_path);
  return path;
}

}  // namespace porter::files
