// What commands say and do where something is wrong, and that what they advise works as it stands.
#include <sys/stat.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <csignal>
#include <filesystem>

#include "support/support.hpp"

#include "core/files/content.hpp"
#include "core/text/json.hpp"

using namespace porter::test;

namespace {

/// A home of the test's own, with a server for "~/uporter.toml" where one is started.
class Home {
 public:
  ~Home() { run({"stop"}); }

  std::string path(const std::string& name) const { return folder_.path() + "/" + name; }
  void write(const std::string& name, const std::string& text, unsigned mode = 0644) const {
    folder_.write(name, text, mode);
  }
  /// Settings with the port of the home; each command is about them.
  void settings(const std::string& text) const {
    write("uporter.toml", "addresses = [" + std::to_string(port_) + "]\n" + text);
  }
  Outcome run(std::vector<std::string> words) const {
    const auto has_word = [&](const char* word) { return std::find(words.begin(), words.end(), word) != words.end(); };
    const bool names_them = has_word("--settings") || has_word("serve") || has_word("--at");
    words.insert(words.begin(), built("uporter"));
    if (!names_them) words.insert(words.end(), {"--settings", path("uporter.toml")});
    return run_program(words);
  }
  /// A line that is pasted into a shell in the home.
  Outcome paste(const std::string& command) const {
    return run_program({"/bin/sh", "-c", "cd " + folder_.path() + "; " + command});
  }
  std::uint16_t port() const { return port_; }
  Response ask(const std::string& host, const std::string& path) const {
    return ask_host(port_, host + ":" + std::to_string(port_), path);
  }

 private:
  Outcome run_program(const std::vector<std::string>& words) const {
    const std::string programs = built("uporter").substr(0, built("uporter").rfind('/'));
    const char* const search = std::getenv("PATH");
    return outcome_of(words, {"HOME=" + folder_.path(), "XDG_STATE_HOME=" + folder_.path() + "/state",
                              "XDG_RUNTIME_DIR=", "XDG_CONFIG_HOME=", "NOTIFY_SOCKET=",
                              "PATH=" + programs + ":" + (search == nullptr ? "/usr/bin:/bin" : search)});
  }

  TempFolder folder_;
  std::uint16_t port_ = free_port();
};

void check_says(const Outcome& outcome, const std::vector<std::string>& parts) {
  for (const std::string& part : parts) {
    CAPTURE(part, outcome.output);
    CHECK(has(outcome.output, part));
  }
}

/// The command that a page of plain text advises, or a command that is not followed.
std::string remedy_in(const std::string& page) {
  const std::size_t advice = page.find("What to do: ");
  const std::size_t at = advice != page.npos ? advice : page.rfind(". ", page.size() - 3);
  if (at == page.npos) return {};
  const std::string rest = page.substr(at, page.find('\n', at) - at);
  const std::string line = rest.substr(0, rest.find(", or end that program"));
  for (const char* const begin : {"echo ", "sudo ", "uporter ", "chmod ", "mv ", "sed ", "mkdir ", "rm "})
    if (const std::size_t command = line.find(begin); command != line.npos) return line.substr(command);
  return {};
}

}  // namespace

TEST_CASE("what a page advises to type works as it stands") {
  struct Row {
    const char* name;
    std::function<void(const Home&)> make;  ///< Below "~/the site".
    std::string path;
    int before;
    int after;
    std::string shown;  ///< What the page holds afterwards.
  };
  const std::string script = "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\ntide'\n";
  const std::vector<Row> rows = {
      {"a front page script",
       [](const Home& home) {
         home.write("the site/index.php", "<?= 'front ', $_SERVER['REQUEST_URI'];");
         home.write("the site/composer.json", "{}");
       },
       "/boats/3", 404, 200, "front /boats/3"},
      {"one level down",
       [](const Home& home) { home.write("the site/public/index.php", "<?= 'front ', $_SERVER['REQUEST_URI'];"); },
       "/boats/3", 404, 200, "front /boats/3"},
      {"a run bit", [&](const Home& home) { home.write("the site/cgi-bin/t ide", script); }, "/cgi-bin/t%20ide", 403,
       200, "tide"},
      {"carriage returns",
       [](const Home& home) {
         home.write("the site/cgi-bin/x", "#!/bin/sh\r\nprintf 'Content-Type: text/plain\\n\\ntide'\r\n", 0755);
       },
       "/cgi-bin/x", 500, 200, "tide"},
      {"by env too",
       [](const Home& home) {
         home.write("the site/cgi-bin/x", "#!/usr/bin/env sh\r\nprintf 'Content-Type: text/plain\\n\\ntide'\r\n", 0755);
       },
       "/cgi-bin/x", 500, 200, "tide"},
      {"a byte-order mark", [&](const Home& home) { home.write("the site/cgi-bin/x", "\xef\xbb\xbf" + script, 0755); },
       "/cgi-bin/x", 500, 200, "tide"},
      {"a link outside",
       [](const Home& home) {
         home.write("else where/a.txt", "papers");
         home.write("the site/b.txt", "x");
         std::filesystem::create_symlink(home.path("else where"), home.path("the site/papers"));
       },
       "/papers/a.txt", 403, 200, "papers"},
      {"a script outside of a script folder",
       [&](const Home& home) {
         home.write("the site/x.py", "#!/usr/bin/python3\nprint('Content-Type: text/plain\\n\\ntide')\n", 0755);
         home.write("the site/cgi-bin/other", script, 0755);
       },
       "/x.py", 403, 404, ""},
      {"a root that is gone", [](const Home& home) { std::filesystem::remove_all(home.path("the site")); }, "/", 500,
       200, ""},
      {"an editor's copy", [](const Home& home) { home.write("the site/q uay.txt~", "quay"); }, "/q%20uay.txt~", 403,
       404, ""},
      {"a pipe", [](const Home& home) { ::mkfifo(home.path("the site/q uay").c_str(), 0644); }, "/q%20uay", 403, 404,
       ""},
      {"a file with a dot", [](const Home& home) { home.write("the site/.quay", "quay"); }, "/.quay", 403, 404, ""},
      {"a file that cannot be read", [](const Home& home) { home.write("the site/q uay", "quay", 0); }, "/q%20uay",
       ::getuid() == 0 ? 200 : 403, 200, "quay"},
  };
  for (const Row& row : rows) {
    CAPTURE(row.name);
    const Home home;
    home.write("the site/kept.txt", "x");
    home.settings("[site.tides]\ndocument-root = \"the site\"\n");
    row.make(home);
    REQUIRE(home.run({"start"}).status == 0);
    const Response before = home.ask("tides.localhost", row.path);
    CAPTURE(before.body);
    CHECK(before.status == row.before);
    if (before.status == 200) continue;
    const std::string command = remedy_in(before.body);
    CAPTURE(command);
    const Outcome pasted = home.paste(command);
    CAPTURE(pasted.output);
    CHECK(pasted.status == 0);
    Response after;
    CHECK(eventually([&] {
      after = home.ask("tides.localhost", row.path);
      return after.status == row.after;
    }));
    CHECK(has(after.body, row.shown));
  }
}

TEST_CASE("what a command advises to type works as it stands") {
  struct Row {
    const char* name;
    std::vector<std::string> words;  ///< "~" stands for the home.
    std::string command;             ///< How the advised command begins.
    std::string shown;  ///< What it says, or what stands in "~/asked" after a command for the administrator.
    int status = 0;     ///< With which the words end when they are given again.
  };
  // Programs that would change this machine write down what they were asked for; a server ends by itself.
  const std::string asked = "#!/bin/sh\nexec >>\"$HOME/asked\"\necho \"$@\"\ncat\n";
  const std::string timed = "#!/bin/sh\ncase $1 in serve) exec timeout -s INT 2 " + built("uporter") +
                            " \"$@\";; *) exec " + built("uporter") + " \"$@\";; esac\n";
  const std::vector<Row> rows = {
      {"no server", {"log"}, "uporter start", "tides", 0},

      {"a file to be served", {"serve", "~/the site/kept.txt"}, "uporter serve", "the site", 2},
      {"a port that is taken", {"serve", "~/the site", "--port", "PORT"}, "uporter serve", "the site", 3},
      {"a folder outside", {"explain", "~/papers/a b/quay.txt"}, "uporter mount add", "papers", 0},
      {"a name that leads elsewhere",
       {"explain", "http://gulls.test:PORT/"},
       "echo",
       "tee -a /etc/hosts\n127.0.0.1 gulls.test",
       1},
      {"no server at a port", {"status", "--at", "1"}, "uporter status --all", "", 1},
  };
  for (const Row& row : rows) {
    CAPTURE(row.name);
    const Home home;
    home.write("the site/kept.txt", "x");
    home.write("papers/a b/quay.txt", "x");
    home.write("bin/sudo", asked, 0755);
    home.write("bin/uporter", timed, 0755);
    home.settings("[site.tides]\ndocument-root = \"the site\"\nhosts = [\"gulls.test\"]\n");
    if (row.words[0] != "log") REQUIRE(home.run({"start"}).status == 0);
    std::vector<std::string> words;
    for (std::string word : row.words) {
      if (word[0] == '~') word.replace(0, 1, home.path("").substr(0, home.path("").size() - 1));
      if (const std::size_t at = word.find("PORT"); at != word.npos) word.replace(at, 4, std::to_string(home.port()));
      words.push_back(word);
    }
    const Outcome before = home.run(words);
    CAPTURE(before.output);
    const std::string command = remedy_in(before.output);
    CAPTURE(command);
    CHECK(command.starts_with(row.command));
    const Outcome pasted = home.paste("PATH=~/bin:$PATH; " + command);
    CAPTURE(pasted.output);
    CHECK(pasted.status % 124 == 0);
    CHECK(has(pasted.output + porter::files::content_of(home.path("asked")).value_or(""), row.shown));
    CHECK(home.run(words).status == row.status);
  }
}

TEST_CASE("a restart with a mistake in the settings leaves the server as it is") {
  const Home home;
  home.write("pages/index.html", "gulls");
  home.settings("[site.tides]\ndocument-root = \"pages\"\n");
  REQUIRE(home.run({"start"}).status == 0);
  home.settings("[site.tides]\ndocument-root = \"pages\"\nlistin = true\n");
  const Outcome restart = home.run({"restart"});
  CHECK(restart.status == 2);
  CHECK(has(restart.output, "listing"));
  CHECK(has(restart.output, "The server goes on as it was"));
  CHECK(home.ask("tides.localhost", "/").body == "gulls");
  home.settings("[site.tides]\ndocument-root = \"pages\"\n");
  CHECK(home.run({"restart"}).status == 0);
}

TEST_CASE("a server whose settings were removed is controlled as before") {
  const Home home;
  home.write("pages/index.html", "gulls");
  home.settings("[site.tides]\ndocument-root = \"pages\"\n");
  REQUIRE(home.run({"start"}).status == 0);
  std::filesystem::remove(home.path("uporter.toml"));
  CHECK(home.run({"status"}).status == 0);
  CHECK(home.run({"stop"}).status == 0);
  CHECK(home.run({"status"}).status == 2);
}

TEST_CASE("a document root that is missing is a matter of its site alone") {
  const Home home;
  home.write("pages/index.html", "gulls");
  home.settings(
      "[site.tides]\ndocument-root = \"pages\"\n[site.lost]\ndocument-root = \"lost\"\nfallback = \"x.php\"\n");
  const Outcome start = home.run({"start"});
  CHECK(start.status == 0);
  CHECK(has(start.output, home.path("lost")));
  CHECK(home.ask("tides.localhost", "/").body == "gulls");
  CHECK(has(home.ask("lost.localhost", "/").body, "document-root-missing"));
  CHECK(has(home.run({"status"}).output, "does not exist"));
  CHECK(home.run({"check"}).status == 1);
  CHECK(home.run({"reload"}).status == 0);
  std::filesystem::create_directory(home.path("lost"));
  home.write("lost/index.html", "found");
  CHECK(home.ask("lost.localhost", "/").body == "found");
  CHECK(has(home.run({"status"}).output, "Findings     none"));
  CHECK(home.run({"site", "add", "none", home.path("none")}).status == 2);
}

TEST_CASE("settings that are named and do not exist are refused by every command") {
  const Home home;
  home.write("pages/index.html", "gulls");
  for (const std::vector<std::string>& words :
       std::vector<std::vector<std::string>>{{"start"},
                                             {"stop"},
                                             {"restart"},
                                             {"status"},
                                             {"reload"},
                                             {"log"},
                                             {"check"},
                                             {"doctor"},
                                             {"languages"},
                                             {"explain", "http://localhost/"},
                                             {"open"},
                                             {"serve"},
                                             {"autostart", "status"},
                                             {"site", "list"},
                                             {"mount", "list"},
                                             {"site", "remove", "x"},
                                             {"site", "change", "x", "--port", "1"},
                                             {"mount", "remove", "/x"},
                                             {"mount", "add", "/x", "pages"},
                                             {"rehearse", "pages/index.html"}}) {
    CAPTURE(words);
    auto all = words;
    all.insert(all.end(), {"--settings", home.path("portre.toml")});
    const Outcome outcome = home.run(all);
    CHECK(outcome.status == 2);
    CHECK(has(outcome.output, "Settings file " + home.path("portre.toml")));
  }
  CHECK(home.run({"check", home.path("portre.toml")}).status == 2);
}

TEST_CASE("the doctor judges scripts as a run would, and has their syntax checked when asked") {
  const Home home;
  home.write("pages/index.html", "gulls");
  home.write("pages/cgi-bin/cr", "#!/bin/sh\r\necho\r\n", 0755);
  home.write("pages/cgi-bin/bom", "\xef\xbb\xbf#!/bin/sh\n", 0755);
  home.write("pages/cgi-bin/gone", "#!/usr/bin/env pyton\n", 0755);
  home.write("pages/cgi-bin/still", "#!/bin/sh\n", 0644);
  home.write("pages/cgi-bin/fine", "#!/bin/sh\n", 0755);
  home.settings("[site.tides]\ndocument-root = \"pages\"\n");
  const Outcome doctor = home.run({"doctor"});
  CHECK(doctor.status == 1);
  check_says(doctor, {"carriage return", "byte-order mark", "Did you mean python3", "chmod +x", "1 can run"});
  std::filesystem::remove_all(home.path("pages/cgi-bin"));
  home.write("pages/broken.php", "<?php\nfunction (\n");
  home.write("pages/fine.php", "<?php echo 1;\n");
  home.write("pages/cgi-bin/broken.pl", "#!/usr/bin/perl\nuse strict;\n$x = 1;\n", 0755);
  home.write("pages/cgi-bin/broken.py", "#!/usr/bin/python3\n\ndef x(:\n", 0755);
  home.write("pages/cgi-bin/module.py", "#!/usr/bin/python3\nimport no_such_tide\n", 0755);
  home.write("pages/cgi-bin/broken.sh", "#!/bin/sh\nif true\n", 0755);
  home.write("pages/cgi-bin/broken.rb", "#!/usr/bin/ruby\ndef x\n", 0755);
  home.write("pages/cgi-bin/broken.js", "#!/usr/bin/node\nlet a = ;\n", 0755);
  CHECK(home.run({"doctor"}).status == 0);
  const Outcome deep = home.run({"doctor", "--deep"});
  CHECK(deep.status == 1);
  check_says(deep, {"broken.php", "broken.pl", "broken.py", "no_such_tide", "broken.sh", "broken.rb", "broken.js",
                    "7 findings", "1 script is fine"});
}

TEST_CASE("rules for another server are told once, with the keys that do the same") {
  const Home home;
  home.write("pages/index.html", "gulls");
  home.write("pages/.htaccess", "RewriteEngine On\nRewriteRule . index.php [L]\nErrorDocument 404 /lost.html\n");
  home.settings("[site.tides]\ndocument-root = \"pages\"\n");
  const Outcome doctor = home.run({"doctor"});
  CHECK(doctor.status == 0);
  CHECK(has(doctor.output, "RewriteRule, ErrorDocument"));
  CHECK(has(doctor.output, "fallback, problem-pages"));
  Server server(home.path("pages"));
  CHECK(has(server.start_lines(), "RewriteRule, ErrorDocument"));
  CHECK(server.stop() == 0);
}

TEST_CASE("after a start that failed nothing is said of a server that was killed") {
  const Home home;
  home.write("pages/index.html", "gulls");
  home.settings("[site.tides]\ndocument-root = \"pages\"\n");
  // Somebody else has the port.
  Program other({"/usr/bin/python3", "-c",
                 "import socket, sys, time\ns = socket.socket(); s.bind(('127.0.0.1', " + std::to_string(home.port()) +
                     ")); s.listen(); print('open', flush=True); time.sleep(60)"});
  REQUIRE(has(other.read_until("open"), "open"));
  CHECK(home.run({"start"}).status == 3);
  CHECK_FALSE(has(home.run({"doctor"}).output, "killed"));
  other.signal(SIGTERM);
}

TEST_CASE("a file that is not there is told so, with the nearest, and no home is offered to be shown") {
  const Home home;
  home.write("pages/index.html", "gulls");
  home.write("notes.txt", "x");
  home.settings("[site.tides]\ndocument-root = \"pages\"\n");
  const Outcome gone = home.run({"explain", home.path("pages/indx.html")});
  CHECK(has(gone.output, "Did you mean " + home.path("pages/index.html")));
  const Outcome outside = home.run({"explain", home.path("notes.txt")});
  CHECK(has(outside.output, "file-not-served"));
  CHECK_FALSE(has(outside.output, "mount add"));
}

TEST_CASE("check, log and autostart tell what they know as JSON, and what is exported is told once") {
  using nlohmann::json;
  const Home home;
  home.write("pages/cgi-bin/warns", "#!/bin/sh\necho fog >&2; printf 'Content-Type: text/plain\\n\\npage'\n", 0755);
  home.settings("[site.tides]\ndocument-root = \"pages\"\nport = 3\n");
  CHECK(json::parse(home.run({"check", "--json"}).output)["findings"].size() == 1);
  home.settings("[site.tides]\ndocument-root = \"pages\"\n");
  CHECK(json::parse(home.run({"check", "--json"}).output)["findings"].empty());
  const Outcome start = home.paste(
      "env -i HOME=\"$HOME\" PATH=\"$PATH\" XDG_STATE_HOME=\"$XDG_STATE_HOME\" QUAY_KEY=1 "
      "uporter start --settings uporter.toml");
  CHECK(start.status == 0);
  CHECK(has(start.output, "QUAY_KEY"));
  CHECK(home.ask("tides.localhost", "/cgi-bin/warns").body == "page");
  json line;
  CHECK(eventually([&] {
    const std::string all = home.run({"log", "--json"}).output;
    if (!has(all, "warns")) return false;
    line = json::parse(all.substr(all.rfind('\n', all.size() - 2) + 1));
    return true;
  }));
  CHECK(line["error_lines"] == json::array({"fog"}));
  CHECK(has(home.run({"log"}).output, "! fog"));
  REQUIRE(home.run({"mount", "add", "/quay", home.path("pages")}).status == 0);
  CHECK(json::parse(home.run({"mount", "list", "--json"}).output)["mounts"] ==
        json::array({{{"site", "tides"}, {"path", "/quay"}, {"target", home.path("pages")}}}));
  CHECK(json::parse(home.run({"autostart", "status", "--json"}).output)["starts_at_login"] == false);
}
