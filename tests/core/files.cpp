#include "core/files/beneath.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <cerrno>
#include <filesystem>

#include "core/files/state.hpp"
#include "support/support.hpp"

using namespace porter::files;

namespace {

/// "ok", or the name of what went wrong.
std::string outcome(const std::variant<Descriptor, SystemError>& opened) {
  const auto* const error = std::get_if<SystemError>(&opened);
  if (error == nullptr) return "ok";
  return error->number == ELOOP ? "link" : error->number == EXDEV ? "outside" : "none";
}

struct stat state(long changed, long inode = 7) {
  struct stat info {};
  info.st_ino = static_cast<ino_t>(inode);
  info.st_size = 40;
  info.st_mtim.tv_sec = changed;
  info.st_ctim.tv_sec = changed;
  return info;
}

}  // namespace

TEST_CASE("files are opened below a folder, with links or without") {
  const porter::test::TempFolder temp;
  temp.write("pages/quay/tides.txt", "high water");
  temp.write("outside.txt", "charts");
  const std::string root = temp.path() + "/pages";
  std::filesystem::create_symlink("quay", root + "/pier");
  std::filesystem::create_symlink("tides.txt", root + "/quay/water.txt");
  std::filesystem::create_symlink("../outside.txt", root + "/leak.txt");
  std::filesystem::create_symlink("loop", root + "/loop");
  const auto folder = std::get<Folder>(Folder::open(root));
  struct Row {
    std::string path;
    std::string with_links;
    std::string without;
  };
  const auto row = GENERATE(values<Row>({
      {"quay/tides.txt", "ok", "ok"},
      {"", "ok", "ok"},
      {"quay/water.txt", "ok", "link"},
      {"pier/tides.txt", "ok", "link"},
      {"leak.txt", "outside", "link"},
      {"../outside.txt", "outside", "outside"},
      {"loop", "link", "link"},
      {"quay/none.txt", "none", "none"},
  }));
  CAPTURE(row.path);
  CHECK(outcome(folder.open_beneath(row.path, O_PATH)) == row.with_links);
  CHECK(outcome(folder.open_without_links(row.path, O_PATH)) == row.without);
}

TEST_CASE("a file's state is relied on once it is two seconds old") {
  struct Row {
    long modified;
    long changed;
    bool settled;
  };
  const auto row = GENERATE(values<Row>(
      {{90, 90, true}, {98, 98, true}, {99, 99, false}, {90, 99, false}, {99, 90, false}, {200, 200, false}}));
  CAPTURE(row.modified, row.changed);
  struct stat info = state(row.modified);
  info.st_ctim.tv_sec = row.changed;
  CHECK(is_settled(info, 100) == row.settled);
}

TEST_CASE("a state is the same only if nothing that stat() shows has changed") {
  CHECK(same_state(state(90), state(90)));
  CHECK_FALSE(same_state(state(90), state(91)));
  CHECK_FALSE(same_state(state(90), state(90, 8)));
  struct stat other = state(90);
  other.st_mtim.tv_nsec = 1;
  CHECK_FALSE(same_state(state(90), other));
  other = state(90);
  other.st_size = 41;
  CHECK_FALSE(same_state(state(90), other));
}
