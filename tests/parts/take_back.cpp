// Taking back what a child of this process has not read.
#include "run/take_back.hpp"

#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <catch2/catch.hpp>
#include <string>

#include "core/files/descriptor.hpp"

using namespace porter;

namespace {

/// Two sockets that are connected.
struct Pair {
  Pair() {
    std::array<int, 2> ends{};
    REQUIRE(::socketpair(AF_UNIX, SOCK_STREAM, 0, ends.data()) == 0);
    ours.reset(ends[0]);
    other.reset(ends[1]);
  }
  files::Descriptor ours;
  files::Descriptor other;
};

std::string read_from(int socket) {
  std::array<char, 100> bytes{};
  const ssize_t got = ::recv(socket, bytes.data(), bytes.size(), 0);
  return {bytes.data(), got > 0 ? static_cast<std::size_t>(got) : 0};
}

/// A child that reads `first` bytes at once and, once it is told to, the rest, and sends all of it back.
class Reader {
 public:
  explicit Reader(std::size_t first) {
    ::send(connection(), "tide table\n", 11, 0);
    id_ = ::fork();
    if (id_ == 0) read_and_end(first);
    if (first > 0) echoed_ = read_from(connection());
  }
  ~Reader() { ::waitpid(id_, nullptr, 0); }
  Reader(const Reader&) = delete;
  Reader& operator=(const Reader&) = delete;

  pid_t id() const { return id_; }
  int connection() const { return connection_.ours.get(); }
  /// All that it has read in the end, and a "-" if there was nothing more.
  std::string finish() {
    ::send(told_.ours.get(), "!", 1, 0);
    return echoed_ + read_from(connection());
  }

 private:
  [[noreturn]] void read_and_end(std::size_t first) const {
    std::array<char, 100> bytes{};
    const int own = connection_.other.get();
    if (first > 0 && ::recv(own, bytes.data(), first, MSG_WAITALL) > 0) ::send(own, bytes.data(), first, 0);
    ::recv(told_.other.get(), bytes.data(), 1, 0);
    const ssize_t got = ::recv(own, bytes.data(), bytes.size(), MSG_DONTWAIT);
    ::send(own, got > 0 ? bytes.data() : "-", got > 0 ? static_cast<std::size_t>(got) : 1, 0);
    ::_exit(0);
  }

  Pair connection_;
  Pair told_;
  std::string echoed_;
  pid_t id_ = 0;
};

}  // namespace

TEST_CASE("what a process has not begun to read can be taken back from it, and it misses nothing of what it has") {
  struct Row {
    const char* what;
    std::size_t first;  ///< Bytes that the child has read before.
    std::string text;   ///< What is to be taken back.
    bool is_taken;
    std::string read;  ///< By the child, all in all.
  };
  const auto row = GENERATE(values<Row>({
      {"nothing was read", 0, "tide table\n", true, "-"},
      {"what was sent last, with more before it", 0, "table\n", true, "tide "},
      {"something is behind it", 0, "tide", false, "tide table\n"},
      {"it would be all but the first byte, which was read", 1, "ide table\n", true, "t-"},
      {"what came before it was read", 5, "table\n", true, "tide -"},
      {"it has begun", 7, "table\n", false, "tide table\n"},
      {"all of it was read", 11, "table\n", false, "tide table\n-"},
      {"something else lies there", 0, "fare table\n", false, "tide table\n"},
  }));
  CAPTURE(row.what);
  Reader reader(row.first);
  const files::Descriptor handle(static_cast<int>(::syscall(SYS_pidfd_open, reader.id(), 0)));
  REQUIRE(run::can_take_back(handle.get()));
  CHECK(run::take_back(handle.get(), reader.id(), reader.connection(), row.text) == row.is_taken);
  CHECK(reader.finish() == row.read);
}
