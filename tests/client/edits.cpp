// Settings under many hands: edits at once, homes that are new, links, files that are emptied while they are saved.
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;
namespace fs = std::filesystem;

namespace {

/// A user's home, in which the settings are where they are without being named.
struct Home {
  TempFolder folder;
  std::uint16_t port = free_port();

  Home() { folder.write("pages/index.html", "Gull Sound"); }
  ~Home() { run({"stop"}); }

  std::string path(const std::string& name) const { return folder.path() + "/" + name; }
  std::string settings() const { return path(".config/upright-porter/uporter.toml"); }
  std::vector<std::string> environment() const {
    return {"HOME=" + folder.path(), "XDG_STATE_HOME=", "XDG_CONFIG_HOME=", "XDG_RUNTIME_DIR="};
  }
  std::string text() const {
    return "addresses = " + std::to_string(port) + "\n[site.gulls]\ndocument-root = \"" + path("pages") + "\"\n";
  }
  std::pair<int, std::string> run(std::vector<std::string> words) const {
    words.insert(words.begin(), {"env", "-C", folder.path(), built("uporter")});
    Program program(words, environment());
    std::string output = program.output();
    return {program.wait(), output};
  }
  bool answers() const {
    try {
      return get(port, "/").body == "Gull Sound";
    } catch (const std::exception&) {
      return false;
    }
  }
};

}  // namespace

TEST_CASE("of edits by many processes at once, with and without a server, none is lost") {
  const bool with_server = GENERATE(false, true);
  CAPTURE(with_server);
  Home home;
  home.folder.write(".config/upright-porter/uporter.toml", "addresses = " + std::to_string(home.port) + "\n");
  if (with_server) REQUIRE(home.run({"start"}).first == 0);
  constexpr int kProcesses = 8;
  constexpr int kEach = 5;
  std::vector<std::thread> hands;
  std::atomic<int> failures{0};
  for (int i = 0; i < kProcesses; ++i)
    hands.emplace_back([&, i] {
      for (int j = 0; j < kEach; ++j) {
        const std::string name = "s" + std::to_string(i) + "-" + std::to_string(j);
        if (home.run({"site", "add", name, home.path("pages")}).first != 0) ++failures;
      }
    });
  for (std::thread& hand : hands) hand.join();
  CHECK(failures == 0);
  const std::string list = home.run({"site", "list"}).second;
  for (int i = 0; i < kProcesses; ++i)
    for (int j = 0; j < kEach; ++j) CHECK(has(list, "s" + std::to_string(i) + "-" + std::to_string(j) + " "));
  for (const auto& entry : fs::directory_iterator(home.path(".config/upright-porter")))
    CHECK(entry.path().filename() == "uporter.toml");
}

TEST_CASE("the first saved settings are noticed, wherever their folder comes from") {
  Home home;
  SECTION("a fresh home") {}
  SECTION("a home whose config folder is a link") {
    fs::create_directories(home.path("dotfiles/config"));
    fs::create_symlink("dotfiles/config", home.path(".config"));
  }
  // Without settings the server listens on the usual port, which may be taken here; so the first ones name another.
  const auto started = home.run({"start"});
  if (started.first != 0) {
    WARN("port 8080 is taken on this machine");
    return;
  }
  home.folder.write(".config/upright-porter/uporter.toml", home.text());
  CHECK(eventually([&] { return home.answers(); }));
  CHECK(has(home.run({"status"}).second, "has been running"));
  SECTION("and it is the same server after its folder was moved and linked") {
    fs::rename(home.path(".config/upright-porter"), home.path("elsewhere"));
    fs::create_symlink(home.path("elsewhere"), home.path(".config/upright-porter"));
    pause_ms(300);
    CHECK(has(home.run({"status"}).second, "has been running"));
    CHECK(has(home.run({"status", "--settings", home.path("elsewhere/uporter.toml")}).second, "has been running"));
    fs::rename(home.path("pages"), home.path("pages2"));
    home.folder.write("elsewhere/uporter.toml", home.text().replace(home.text().find("/pages"), 6, "/pages2"));
    CHECK(eventually([&] { return home.answers(); }));
  }
  CHECK(home.run({"stop"}).first == 0);
  CHECK_FALSE(home.answers());
  CHECK(has(home.run({"status"}).second, "is not running"));
}

TEST_CASE("an empty or vanished file is believed only when it has stayed so") {
  Home home;
  home.folder.write(".config/upright-porter/uporter.toml", home.text());
  REQUIRE(home.run({"start"}).first == 0);
  const bool vanishes = GENERATE(false, true);
  CAPTURE(vanishes);
  const auto take_away = [&] {
    if (vanishes) {
      fs::remove(home.settings());
    } else {
      std::ofstream(home.settings(), std::ios::trunc);
    }
  };
  for (int i = 0; i < 3; ++i) {
    const auto begun = std::chrono::steady_clock::now();
    take_away();
    for (int j = 0; j < 10; ++j) {
      pause_ms(50);
      const bool answers = home.answers();
      // It is believed after three seconds, which pass before ten answers on a busy machine.
      if (std::chrono::steady_clock::now() - begun < std::chrono::milliseconds(2500)) CHECK(answers);
    }
    home.folder.write(".config/upright-porter/uporter.toml", home.text());
    pause_ms(100);
  }
  take_away();
  CHECK(eventually([&] { return !home.answers(); }));
}

TEST_CASE("starting and stopping at once never reports what is not so") {
  Home home;
  home.folder.write(".config/upright-porter/uporter.toml", home.text());
  for (int round = 0; round < 6; ++round) {
    std::vector<std::thread> hands;
    std::vector<std::pair<int, std::string>> said(4);
    for (std::size_t i = 0; i < said.size(); ++i)
      hands.emplace_back([&, i] { said[i] = home.run({i % 2 == 0 ? "start" : "stop"}); });
    for (std::thread& hand : hands) hand.join();
    for (const auto& [status, text] : said) {
      CAPTURE(text);
      CHECK_FALSE(has(text, "kill -9"));
      CHECK_FALSE(has(text, "process 0"));
      CHECK_FALSE(has(text, "does not answer"));
      CHECK((status == 0 || has(text, "was stopped while it was starting")));
    }
  }
  CHECK(home.run({"stop"}).first == 0);
  // A lock that holds nonsense names nobody.
  for (const auto& state : fs::directory_iterator(home.path(".local/state/upright-porter")))
    for (const char* const nonsense : {"0", "-1", "1", "99999999999", "harbour"}) {
      std::ofstream(state.path() / "lock", std::ios::trunc) << nonsense;
      CHECK_FALSE(has(home.run({"doctor"}).second, "kill"));
      CHECK(has(home.run({"stop"}).second, "No server runs"));
    }
}

TEST_CASE("a server asks interpreters for their versions again only when their program has changed") {
  Home home;
  home.folder.write("tools/gull", "#!/bin/sh\necho asked >> " + home.path("asked") + "\necho gull 1.2\n", 0755);
  home.folder.write("tools/perl", "#!/bin/sh\necho asked >> " + home.path("asked") + "\necho perl 5.1\n", 0755);
  home.folder.write(".config/upright-porter/uporter.toml",
                    home.text() + "[interpreter.Perl]\ncommand = \"" + home.path("tools/perl") + "\"\n");
  REQUIRE(home.run({"start"}).first == 0);
  const auto asked = [&] {
    std::ifstream file(home.path("asked"));
    return std::count(std::istreambuf_iterator<char>(file), {}, '\n');
  };
  CHECK(asked() == 1);
  REQUIRE(home.run({"reload"}).first == 0);
  pause_ms(300);
  CHECK(asked() == 1);
  home.folder.write("tools/perl", "#!/bin/sh\necho asked >> " + home.path("asked") + "\necho perl 5.22\n", 0755);
  REQUIRE(home.run({"reload"}).first == 0);
  CHECK(eventually([&] { return asked() == 2; }));
  CHECK(eventually([&] { return has(home.run({"status"}).second, "Perl 5.22"); }));
}
