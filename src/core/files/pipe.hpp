// A pipe with both its ends.
#pragma once

#include <fcntl.h>
#include <unistd.h>

#include <array>

#include "core/files/descriptor.hpp"

namespace porter::files {

struct Pipe {
  Descriptor read_end;
  Descriptor write_end;
};

/// Opens both ends of `pipe`, which no program started later inherits. False: errno tells why.
inline bool make_pipe(Pipe& pipe) {
  std::array<int, 2> ends{};
  if (::pipe2(ends.data(), O_CLOEXEC) != 0) return false;
  pipe.read_end.reset(ends[0]);
  pipe.write_end.reset(ends[1]);
  return true;
}

}  // namespace porter::files
