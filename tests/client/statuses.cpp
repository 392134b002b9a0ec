// Exit statuses: the same for all commands, as the README's table has them.
#include <catch2/catch.hpp>

#include "support/support.hpp"

using namespace porter::test;

namespace {

enum Status { done = 0, not_so = 1, bad_use = 2, port_taken = 3, runs_already = 4 };

/// A home with settings of one site, and what a command comes to there.
class Home {
 public:
  Home() : port(free_port()) {
    folder.write("pages/index.html", "tides");
    folder.write("pages/cgi-bin/fails", "#!/bin/sh\nexit 3\n", 0755);
    folder.write("pages/cgi-bin/tides", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n07:40'\n", 0755);
    write("document-root = \"pages\"\n");
  }
  ~Home() { run("stop"); }

  void write(const std::string& of_site, const std::string& address = "") const {
    folder.write("uporter.toml", "addresses = [" + (address.empty() ? std::to_string(port) : address) +
                                     "]\nconsole = false\n[site.tides]\n" + of_site);
  }
  /// The words stand between spaces; FILE is that of the settings, ROOT the document root.
  Outcome run(const std::string& line) const {
    std::vector<std::string> words = {built("uporter")};
    std::istringstream stream(line);
    for (std::string word; stream >> word;) {
      if (word == "ROOT") word = folder.path() + "/pages";
      if (word == "FILE") word = folder.path() + "/uporter.toml";
      if (word == "URL") word = "http://localhost:" + std::to_string(port) + "/";
      words.push_back(word);
    }
    words.insert(words.end(), {"--settings", folder.path() + "/uporter.toml"});
    return outcome_of(words, SettledServer::environment(folder));
  }

  TempFolder folder;
  const std::uint16_t port;
};

struct Row {
  std::string line;
  Status status;
};

void check(const Home& home, const std::vector<Row>& rows) {
  for (const Row& row : rows) {
    const Outcome outcome = home.run(row.line);
    CAPTURE(row.line, outcome.output);
    CHECK(outcome.status == row.status);
  }
}

}  // namespace

TEST_CASE("without a server, each command ends with the status that the table has") {
  const Home home;
  check(home, {{"stop", done},
               {"status", not_so},
               {"log", not_so},
               {"reload", not_so},
               {"pause", not_so},
               {"resume", not_so},
               {"exchanges", not_so},
               {"exchange 1", not_so},
               {"again 1", not_so},
               {"compare 1 2", not_so},
               {"compare FILE FILE", done},
               {"compare FILE /etc/passwd", not_so},
               {"compare FILE /no/such", bad_use},
               {"explain URL", not_so},
               {"check", done},
               {"site list", done},
               {"mount list", done},
               {"languages", done},
               {"open", not_so},
               {"rehearse ROOT/cgi-bin/none", bad_use},
               {"autostart status", not_so},
               {"site remove nowhere", bad_use},
               {"site add x /no/such", bad_use},
               {"mount remove /x", bad_use},
               {"nonsense", bad_use},
               {"status --nonsense", bad_use}});
}

TEST_CASE("with a server, each command ends with the status that the table has") {
  const Home home;
  REQUIRE(home.run("start").status == done);
  check(home, {{"start", done},
               {"serve", runs_already},
               {"status", done},
               {"log", done},
               {"log --site nowhere", bad_use},
               {"reload", done},
               {"pause", done},
               {"resume", done},
               {"exchanges", done},
               {"exchanges --site nowhere", bad_use},
               {"exchange 77", not_so},
               {"compare 77 78", not_so},
               {"explain URL", done},
               {"explain URLx", not_so},
               {"doctor", done},
               {"restart", done},
               {"stop", done}});
}

TEST_CASE("a mistake in the settings is a usage error, whoever meets it") {
  const Home home;
  home.write("document-roo = \"pages\"\n");
  check(home, {{"check", bad_use},
               {"start", bad_use},
               {"serve", bad_use},
               {"restart", bad_use},
               {"explain URL", bad_use},
               {"doctor", bad_use},
               {"site list", not_so},
               {"site change tides --port 9000", bad_use},
               {"open", bad_use},
               {"autostart on", bad_use}});
}

TEST_CASE("a port that is taken has a status of its own") {
  const Home home;
  const Server other(home.folder.path() + "/pages");
  home.write("document-root = \"pages\"\n", std::to_string(other.port()));
  check(home, {{"start", port_taken}, {"serve", port_taken}, {"status", not_so}});
}
