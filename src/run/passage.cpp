// See passage.hpp.
#include "run/passage.hpp"

#include <fcntl.h>

#include <algorithm>
#include <cerrno>

namespace porter::run {
namespace {

ssize_t move(int from, int to, std::size_t most) {
  ssize_t moved = 0;
  do moved = ::splice(from, nullptr, to, nullptr, most, SPLICE_F_NONBLOCK | SPLICE_F_MOVE);
  while (moved < 0 && errno == EINTR);
  return moved;
}

}  // namespace

std::unique_ptr<Passage> Passage::make() {
  std::unique_ptr<Passage> passage(new Passage());
  if (!files::make_pipe(passage->pipe_)) return nullptr;
  return passage;
}

ssize_t Passage::take(int from, std::size_t most) {
  const ssize_t taken = move(from, pipe_.write_end.get(), most);
  size_ = static_cast<std::size_t>(std::max<ssize_t>(taken, 0));
  return taken;
}

ssize_t Passage::give(int to, std::size_t most) {
  const ssize_t given = move(pipe_.read_end.get(), to, std::min(most, size_));
  size_ -= static_cast<std::size_t>(std::max<ssize_t>(given, 0));
  return given;
}

}  // namespace porter::run
