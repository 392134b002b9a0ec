// uporter open, with what a file manager hands it, and what is made from the commands: the manual and the completions.
#include <catch2/catch.hpp>
#include <filesystem>

#include "support/support.hpp"

using namespace porter::test;
namespace fs = std::filesystem;

namespace {

/// A home without settings, and a browser that only notes what it was given.
class Desk {
 public:
  Desk() {
    folder_.write("bin/xdg-open", "#!/bin/sh\necho \"$@\" >> '" + folder_.path() + "/opened'\n", 0755);
    // A port of its own, since others use the usual one.
    folder_.write(".config/upright-porter/uporter.toml",
                  "addresses = [\"localhost:" + std::to_string(free_port()) + "\"]\nconsole = false\n");
  }
  ~Desk() { run({"stop"}); }
  Outcome run(std::vector<std::string> words) const {
    words.insert(words.begin(), built("uporter"));
    return outcome_of(words, {"HOME=" + folder_.path(), "XDG_STATE_HOME=", "XDG_CONFIG_HOME=", "XDG_RUNTIME_DIR=",
                              "DISPLAY=:97", "PATH=" + folder_.path() + "/bin:/usr/bin:/bin"});
  }
  TempFolder& folder() { return folder_; }
  std::string path(const std::string& below) const { return folder_.path() + "/" + below; }

 private:
  TempFolder folder_;
};

std::string last_line(std::string text) {
  while (text.ends_with('\n')) text.pop_back();
  return text.substr(text.rfind('\n') + 1);
}

}  // namespace

TEST_CASE("a file that no server shows is opened all the same, as a page of its project") {
  Desk desk;
  desk.folder().write("work/ferries/.git/HEAD", "");
  desk.folder().write("work/ferries/tides/now.php", "<?php echo 'high water';");
  desk.folder().write("lone/a b%.html", "lone");
  const Outcome first = desk.run({"open", desk.path("work/ferries/tides/now.php")});
  CAPTURE(first.output);
  REQUIRE(first.status == 0);
  CHECK(has(first.output, "is shown as the site ferries until the server stops"));
  const std::string url = last_line(first.output);
  CHECK(has(url, "http://ferries.localhost:"));
  CHECK(url.ends_with("/tides/now.php"));
  CHECK(has(outcome_of({"curl", "-s", url}).output, "high water"));
  // Once it is there it is found, and a reload does not take it away.
  CHECK(desk.run({"reload"}).status == 0);
  const Outcome again = desk.run({"open", desk.path("work/ferries/tides/now.php")});
  CHECK(last_line(again.output) == url);
  CHECK_FALSE(has(again.output, "until the server stops"));
  const Outcome lone = desk.run({"open", "file://" + desk.path("lone/a%20b%25.html")});
  CHECK(has(lone.output, "http://lone.localhost:"));
  CHECK(last_line(lone.output).ends_with("/a%20b%25.html"));
  CHECK(has(desk.run({"status"}).output, "(until the server stops)"));
  CHECK(has(outcome_of({"cat", desk.path("opened")}).output, url + "\n"));
  const Outcome none = desk.run({"open", desk.path("work/none")});
  CHECK(none.status == 2);
  CHECK(has(none.output, "no file or folder"));
  // Nothing of it was written.
  CHECK(desk.run({"stop"}).status == 0);
  CHECK_FALSE(has(outcome_of({"cat", desk.path(".config/upright-porter/uporter.toml")}).output, "ferries"));
}

TEST_CASE("the manual and the completions name every command and option that there is") {
  TempFolder folder;
  const Outcome written = outcome_of({built("uporter"), "reference", folder.path(), PORTER_DEMO "/uporter.toml"});
  CAPTURE(written.output);
  REQUIRE(written.status == 0);
  const auto text = [&](const std::string& file) { return outcome_of({"cat", folder.path() + "/" + file}).output; };
  const std::string all = text("man/uporter.1");
  for (const char* const command : {"serve", "start", "open", "site", "exchanges", "rehearse", "doctor"}) {
    CAPTURE(command);
    CHECK(has(all, "uporter\\-" + std::string(command)));
    const std::string page = text("man/uporter-" + std::string(command) + ".1");
    CHECK(has(page, "\\-\\-settings"));
    CHECK(has(text("completions/uporter.fish"), "-a " + std::string(command)));
    CHECK(has(text("completions/_uporter"), "'" + std::string(command) + ":"));
  }
  CHECK(has(text("man/uporter-start.1"), "\\-\\-reach"));
  CHECK(has(text("man/uporter.toml.5"), "document\\-root"));
  // As bash itself completes.
  const auto completed = [&](const std::string& words, int count) {
    return outcome_of({"bash", "-c",
                       "source " + folder.path() + "/completions/uporter.bash; COMP_WORDS=(" + words +
                           "); COMP_CWORD=" + std::to_string(count) + "; _uporter 2>/dev/null; echo ${COMPREPLY[*]}"})
        .output;
  };
  CHECK(completed("uporter st", 1) == "start stop status\n");
  CHECK(completed("uporter site ''", 2) == "add change remove list\n");
  CHECK(completed("uporter start --reach ''", 3) == "this-computer network\n");
  CHECK(completed("uporter site add --fall", 3) == "--fallback\n");
}
