// See spooled_body.hpp.
#include "server/response/spooled_body.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <string>

#include "core/findings/resources.hpp"

namespace porter::server {
namespace {

std::string temporary_folder() {
  const char* const folder = std::getenv("TMPDIR");
  return folder == nullptr || *folder == '\0' ? "/tmp" : folder;
}

/// A file in `folder` that has no name, so that nothing of it is left whatever happens; not open: errno tells why.
files::Descriptor nameless_file(const std::string& folder) {
  files::Descriptor file(::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600));
  if (file.is_open() || (errno != EOPNOTSUPP && errno != EISDIR)) return file;
  // Not every file system has such files.
  std::string pattern = folder + "/upright-porter-XXXXXX";
  file.reset(::mkostemp(pattern.data(), O_CLOEXEC));
  if (file.is_open()) ::unlink(pattern.c_str());
  return file;
}

/// errno if it fails.
int write_all(int file, std::string_view data) {
  while (!data.empty()) {
    const ssize_t written = ::write(file, data.data(), data.size());
    if (written < 0 && errno == EINTR) continue;
    if (written <= 0) return written < 0 ? errno : ENOSPC;
    data.remove_prefix(static_cast<std::size_t>(written));
  }
  return 0;
}

}  // namespace

Finding spool_finding(int error) {
  if (files::is_lack_of_resources({error})) return out_of_resources("keep the request's body", error);
  return {Code::spool_failed, {{"folder", temporary_folder()}, {"reason", files::describe({error})}}};
}

asio::awaitable<Spooled> spool_body(BodyReader& body, run::Helpers& helpers) {
  constexpr std::size_t kSpooledAtOnce = 256 * 1024;
  Spooled spooled;
  std::string gathered;
  std::string_view data;
  do {
    spooled.result = co_await body.next(data);
    gathered += data;
    spooled.length += data.size();
    if (spooled.result == BodyRead::data && gathered.size() < kSpooledAtOnce) continue;
    auto writing = helpers.run([&] {
      if (!spooled.file.is_open()) spooled.file = nameless_file(temporary_folder());
      return spooled.file.is_open() ? write_all(spooled.file.get(), gathered) : errno;
    });
    spooled.error = co_await std::move(writing);
    gathered.clear();
  } while (spooled.result == BodyRead::data && spooled.error == 0);
  ::lseek(spooled.file.get(), 0, SEEK_SET);
  co_return spooled;
}

}  // namespace porter::server
