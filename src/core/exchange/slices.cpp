// See slices.hpp.
#include "core/exchange/slices.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

namespace porter::exchange {

files::Descriptor open_slice(const FileSlice& slice) {
  // What lies there by now may be anything, also what would be waited for.
  files::Descriptor file(::open(slice.file.c_str(), O_RDONLY | O_NONBLOCK | O_CLOEXEC | O_NOCTTY));
  struct stat info {};
  const bool is_same = file.is_open() && ::fstat(file.get(), &info) == 0 && S_ISREG(info.st_mode) &&
                       static_cast<std::uint64_t>(info.st_size) == slice.size && info.st_dev == slice.device &&
                       info.st_ino == slice.inode &&
                       info.st_mtim.tv_sec * 1'000'000'000LL + info.st_mtim.tv_nsec == slice.modified;
  if (!is_same) file.reset();
  return file;
}

const FileSlice* fill_slices(Wire& wire, std::uint64_t most) {
  if (wire.slices.empty() || wire.kept() > most) return nullptr;
  std::string all;
  std::size_t taken = 0;
  for (const FileSlice& slice : wire.slices) {
    const files::Descriptor file = open_slice(slice);
    if (!file.is_open()) return &slice;
    all.append(wire.bytes, taken, slice.at - taken);
    taken = slice.at;
    const std::size_t begin = all.size();
    all.resize(begin + slice.length);
    std::size_t got = 0;
    while (got < slice.length) {
      const ssize_t more =
          ::pread(file.get(), all.data() + begin + got, slice.length - got, static_cast<off_t>(slice.offset + got));
      if (more <= 0) return &slice;
      got += static_cast<std::size_t>(more);
    }
  }
  all.append(wire.bytes, taken);
  wire.bytes = std::move(all);
  wire.slices.clear();
  return nullptr;
}

}  // namespace porter::exchange
