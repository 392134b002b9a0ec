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

std::variant<Folder, SystemError> Folder::open(const std::string& path) {
  Descriptor handle(::open(path.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC));
  if (!handle.is_open()) return SystemError{errno};
  return Folder(std::move(handle), path);
}

std::variant<Descriptor, SystemError> Folder::open_beneath(const std::string& relative, int flags) const {
  auto opened = open_strictly(handle_.get(), relative.c_str(), flags);
  const SystemError* const error = std::get_if<SystemError>(&opened);
  if (error == nullptr || error->number != EXDEV) return opened;
  // An absolute link counts as leading out even when its target lies inside. Resolve it as a path, and open what that
  // gives as strictly as before: if anything was exchanged in between, this second opening still cannot get out.
  const std::string full = path_ + "/" + relative;
  std::array<char, PATH_MAX> real{};
  if (::realpath(full.c_str(), real.data()) == nullptr) return SystemError{errno == ENOENT ? ENOENT : EXDEV};
  const std::string_view target = real.data();
  if (target == path_) return open_strictly(handle_.get(), "", flags);
  if (!target.starts_with(path_) || target[path_.size()] != '/') return SystemError{EXDEV};
  return open_strictly(handle_.get(), real.data() + path_.size() + 1, flags);
}

std::variant<Descriptor, SystemError> Folder::open_without_links(const std::string& relative, int flags) const {
  return open_strictly(handle_.get(), relative.c_str(), flags, RESOLVE_NO_SYMLINKS);
}

std::string path_of(const Descriptor& file) {
  const std::string link = "/proc/self/fd/" + std::to_string(file.get());
  std::array<char, PATH_MAX> target{};
  const ssize_t length = ::readlink(link.c_str(), target.data(), target.size());
  if (length <= 0 || static_cast<std::size_t>(length) == target.size()) return {};
  std::string path(target.data(), static_cast<std::size_t>(length));
  return path.ends_with(" (deleted)") ? std::string() : path;
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

}  // namespace porter::files
