// A first day with the product: the steps of a beginner, and the sentence that each ends with.
#include <catch2/catch.hpp>
#include <filesystem>

#include "support/support.hpp"

using namespace porter::test;

namespace {

/// A beginner's home, with the settings of two sites.
class Beginner {
 public:
  Beginner() : port(free_port()) {
    folder.write("course/index.php", "<?php echo 'Skerry Head';");
    folder.write("course/Fares.html", "fares");
    folder.write("course/cgi-bin/env.c", "int main(void) { return 0; }\n");
    folder.write("office/public/index.html", "office");
    folder.write("office/run.py", "#!/usr/bin/env python3\n", 0755);
    folder.write("settings.toml", text(std::to_string(port)));
  }
  ~Beginner() { run({"stop"}); }

  std::string text(const std::string& of_course) const {
    return "addresses = [" + std::to_string(port) + "]\nconsole = false\n[site.course]\ndocument-root = \"course\"\n" +
           "addresses = [" + of_course + "]\n[site.office]\ndocument-root = \"office/public\"\naddresses = [" +
           of_course + "]\n";
  }
  std::pair<int, std::string> run(std::vector<std::string> words) const {
    words.insert(words.begin(), built("uporter"));
    words.insert(words.end(), {"--settings", folder.path() + "/settings.toml"});
    Program program(words, SettledServer::environment(folder));
    const std::string said = program.output();
    return {program.wait(), said};
  }

  TempFolder folder;
  const std::uint16_t port;
};

}  // namespace

TEST_CASE("each step of a first day ends with the right sentence") {
  const Beginner home;
  const std::string other = std::to_string(free_port());
  home.folder.write("settings.toml", home.text(other));
  SECTION("an address that no site uses is told, and not opened, whoever has its port") {
    CHECK(has(home.run({"check"}).second, "No site uses the address localhost:" + std::to_string(home.port)));
    CHECK(home.run({"start"}).first == 0);
    CHECK(ask_host(static_cast<std::uint16_t>(std::stoi(other)), "course.localhost", "/").body == "Skerry Head");
  }
  SECTION("a mount is one of the site whose project has it, and takes / only if that is said") {
    const auto [status, said] = home.run({"mount", "add", "/", home.folder.path() + "/office/run.py"});
    CHECK(status == 2);
    CHECK(has(said, "The site office has pages of its own at /"));
    CHECK(has(said, "--replace-pages"));
    const auto named = home.run({"mount", "add", "/", "--replace-pages", home.folder.path() + "/office/run.py"});
    CHECK(named.first == 0);
    CHECK(has(named.second, "http://office.localhost:" + other + "/  "));
    home.folder.write("elsewhere/x.html", "x");
    CHECK(has(home.run({"mount", "add", "/x", home.folder.path() + "/elsewhere"}).second, "Say which site is meant"));
  }
  SECTION("what is misspelt is told with what it may mean") {
    CHECK(home.run({"start"}).first == 0);
    const auto [status, said] = home.run({"log", "--site", "cuorse"});
    CHECK(status == 2);
    CHECK(has(said, "There is no site \"cuorse\". Did you mean course?"));
    CHECK(has(home.run({"statos"}).second, "Unknown command \"statos\". Did you mean status?"));
  }
  SECTION("pages say what is wrong, and what to do") {
    CHECK(home.run({"start"}).first == 0);
    const auto page = [&](const std::string& host, const std::string& target) {
      return ask_host(static_cast<std::uint16_t>(std::stoi(other)), host, target).body;
    };
    CHECK(has(page("course.localhost", "/fares.html"), "Upper and lower case count; there is /Fares.html"));
    CHECK(has(page("course.localhost", "/cgi-bin/env.c"), "gcc -o env env.c"));
    CHECK(has(page("nobody.example", "/"), "or by typing:"));
  }
  SECTION("a misspelt document root takes nothing away") {
    CHECK(home.run({"start"}).first == 0);
    const auto page = [&](const std::string& target) {
      return ask_host(static_cast<std::uint16_t>(std::stoi(other)), "course.localhost", target).body;
    };
    std::string text = home.text(other);
    text.replace(text.find("\"course\""), 8, "\"coarse\"");
    home.folder.write("settings.toml", text);
    CHECK(home.run({"reload"}).first == 0);
    CHECK(page("/") == "Skerry Head");
    const std::string status = home.run({"status"}).second;
    CHECK(has(status, "so the site goes on showing " + home.folder.path() + "/course"));
    CHECK(has(status, "Did you mean " + home.folder.path() + "/course ?"));
    CHECK(has(page("/none"), "what is shown is " + home.folder.path() + "/course"));
    // One that was never there is not told to be put back.
    CHECK(home.run({"stop"}).first == 0);
    CHECK(home.run({"start"}).first == 0);
    CHECK(has(page("/"), "document-root-missing"));
    CHECK(has(page("/"), "Did you mean " + home.folder.path() + "/course ?"));
  }
  SECTION("other devices are let in by one word, at a port of the site's own") {
    const auto [status, said] = home.run({"site", "change", "office", "--reach", "network"});
    CHECK(status == 0);
    CHECK(has(said, "Written to " + home.folder.path() + "/settings.toml"));
    const std::string text = file_text(home.folder.path() + "/settings.toml");
    CHECK(has(text, "addresses = [\"localhost:" + other + "\", \"network:8081\"]"));
    CHECK(home.run({"site", "change", "office", "--reach", "this-computer"}).first == 0);
    CHECK(!has(file_text(home.folder.path() + "/settings.toml"), "network:"));
  }
  SECTION("a script is rehearsed at the path that it answers at") {
    home.folder.write("office/run.py",
                      "#!/usr/bin/env python3\nimport os\nprint('Content-Type: text/plain\\n')\n"
                      "print('at', os.environ.get('PATH_INFO', ''))\n",
                      0755);
    CHECK(home.run({"mount", "add", "/tides", home.folder.path() + "/office/run.py", "--site", "office"}).first == 0);
    const auto plain = home.run({"rehearse", home.folder.path() + "/office/run.py"});
    CHECK(has(plain.second, "answers for every path from /tides on"));
    const std::string url = "http://office.localhost:" + other + "/tides/gulls";
    CHECK(has(home.run({"rehearse", home.folder.path() + "/office/run.py", "--at", url}).second, "at /gulls"));
    CHECK(
        home.run({"rehearse", home.folder.path() + "/office/run.py", "--at", "http://office.localhost:" + other + "/"})
            .first == 2);
  }
  SECTION("settings that are not there are not fine") {
    CHECK(home.run({"stop"}).first == 0);
    std::filesystem::remove(home.folder.path() + "/settings.toml");
    const auto [status, said] = home.run({"check"});
    CHECK(status == 2);
    CHECK(has(said, "not found. Create it"));
  }
}
