// The access log as a file: whole lines, giving way to a new file, and what is lost.
#include "server/record/access_log.hpp"

#include <algorithm>
#include <catch2/catch.hpp>
#include <filesystem>

#include "core/files/content.hpp"
#include "support/support.hpp"

using namespace porter;
using namespace porter::server;
using porter::test::TempFolder;

namespace {

std::string line(int number) { return std::to_string(number) + std::string(90, 'x') + "\n"; }

std::size_t lines_in(const std::string& file) {
  const std::string text = files::content_of(file).value_or("");
  CHECK((text.empty() || text.ends_with('\n')));
  return static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n'));
}

AccessLog log_in(const TempFolder& folder) {
  AccessLog log;
  log.file = folder.path() + "/access.log";
  return log;
}

}  // namespace

TEST_CASE("a log that has become large gives way to a new one, and of the older ones a few are kept") {
  TempFolder folder;
  AccessLog settings = log_in(folder);
  settings.largest = 4096;
  settings.older = 2;
  {
    AccessLogFile log(settings);
    for (int i = 0; i < 400; ++i) log.write(line(i));
  }
  std::size_t all = 0;
  for (const char* const name : {"/access.log", "/access.1.log", "/access.2.log"}) {
    CAPTURE(name);
    CHECK(std::filesystem::file_size(folder.path() + name) <= settings.largest);
    all += lines_in(folder.path() + name);
  }
  CHECK(all > 80);
  CHECK_FALSE(std::filesystem::exists(folder.path() + "/access.3.log"));
  CHECK(files::content_of(folder.path() + "/access.log").value_or("").find(line(399)) != std::string::npos);
}

TEST_CASE("a log without a bound keeps every line, in order, from wherever it was handed over") {
  TempFolder folder;
  {
    AccessLogFile log(log_in(folder));
    for (int i = 0; i < 3000; ++i) {
      log.write(line(i));
      if (i % 500 == 0) porter::test::pause_ms(20);
    }
  }
  const std::string text = files::content_of(folder.path() + "/access.log").value_or("");
  CHECK(lines_in(folder.path() + "/access.log") == 3000);
  CHECK(text.find(line(1)) < text.find(line(2)));
  CHECK(text.starts_with("0x"));
}

TEST_CASE("lines that cannot be written are counted and told, and the next ones are written when they can be") {
  TempFolder folder;
  AccessLog settings;
  settings.file = folder.path() + "/later/access.log";
  AccessLogFile log(settings);
  CHECK_FALSE(log.problem());
  log.write(line(1) + line(2));
  REQUIRE(porter::test::eventually([&] { return log.problem().has_value(); }));
  CHECK(log.problem()->fact("lost") == "2");
  std::filesystem::create_directory(folder.path() + "/later");
  log.write(line(3));
  CHECK(porter::test::eventually([&] { return !log.problem(); }));
  CHECK(lines_in(settings.file) == 1);
}
