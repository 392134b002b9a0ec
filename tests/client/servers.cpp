// Several servers of one user: how each is found, listed, asked and stopped, those of a folder alone included.
#include <catch2/catch.hpp>
#include <csignal>
#include <memory>

#include "support/support.hpp"

#include "core/text/json.hpp"

using namespace porter::test;

namespace {

/// A user with two folders, and a home where no settings are.
struct User {
  TempFolder folder;

  User() {
    folder.write("fares/index.html", "fares");
    folder.write("fares/sub/a.txt", "x");
    folder.write("tides/index.html", "tides");
    folder.write("elsewhere/x", "x");
  }
  std::string path(const std::string& name) const { return folder.path() + "/" + name; }
  std::vector<std::string> environment() const {
    return {"HOME=" + folder.path(), "XDG_STATE_HOME=" + path("state"), "XDG_CONFIG_HOME=" + path("config"),
            "XDG_RUNTIME_DIR="};
  }
  /// Runs the client, standing in the folder `at`.
  Outcome run(const std::string& at, std::vector<std::string> words) const {
    words.insert(words.begin(), {"env", "-C", path(at), built("uporter")});
    return outcome_of(words, environment());
  }
  nlohmann::json json(const std::string& at, std::vector<std::string> words) const {
    words.push_back("--json");
    return nlohmann::json::parse(run(at, std::move(words)).output, nullptr, false);
  }
};

}  // namespace

TEST_CASE("of several servers the one that is meant is found") {
  const User user;
  CHECK(user.run("fares", {"status"}).status == 1);
  CHECK(has(user.run("fares", {"status", "--all"}).output, "No server of yours runs"));
  Server fares(user.path("fares"), {}, user.environment());
  // The only one is meant wherever one stands.
  CHECK(user.json("elsewhere", {"status"})["folder"] == user.path("fares"));
  Server tides(user.path("tides"), {}, user.environment());
  const std::string port = std::to_string(tides.port());
  CHECK(user.json("fares", {"status"})["folder"] == user.path("fares"));
  CHECK(user.json("fares/sub", {"status"})["folder"] == user.path("fares"));
  CHECK(user.json("tides", {"status"})["addresses"][0]["port"] == tides.port());
  CHECK(user.json("fares", {"status", "--at", port})["folder"] == user.path("tides"));
  const Outcome open_question = user.run("elsewhere", {"log"});
  CHECK(open_question.status == 1);
  CHECK(has(open_question.output, user.path("fares")));
  CHECK(has(open_question.output, user.path("tides")));
  CHECK(has(open_question.output, "uporter log --at "));
  CHECK(has(user.run("elsewhere", {"status", "--at", "1"}).output, "uporter status --all"));
  const auto all = user.json("elsewhere", {"status", "--all"});
  REQUIRE(all["servers"].size() == 2);
  CHECK(all["servers"][0]["folder"] == user.path("fares"));
  CHECK(all["servers"][1]["folder"] == user.path("tides"));
  // What is asked about decides, not where one stands.
  const auto page = user.json("fares", {"explain", "http://localhost:" + port + "/"});
  CHECK(page["served"] == true);
  CHECK(page["outcome"] == "The file " + user.path("tides") + "/index.html is sent.");
  CHECK(user.json("tides", {"explain", user.path("fares") + "/sub/a.txt"})["urls"][0] ==
        "http://localhost:" + std::to_string(fares.port()) + "/sub/a.txt");
  CHECK(get(tides.port(), "/").body == "tides");
  CHECK(has(user.run("tides", {"log"}).output, "GET /"));
  CHECK(user.run("tides", {"doctor"}).status == 0);
  const Outcome reload = user.run("tides", {"reload"});
  CHECK(reload.status == 1);
  CHECK(has(reload.output, "goes by no settings"));
  CHECK(has(user.run("elsewhere", {"stop", "--at", port}).output, "Stopped: the server of " + user.path("tides")));
  CHECK(tides.program().wait() == 0);
  CHECK(user.run("elsewhere", {"stop"}).status == 0);
  CHECK(fares.program().wait() == 0);
  CHECK(user.run("elsewhere", {"status"}).status == 1);
}

TEST_CASE("the places of servers for a folder go with them, also of those that were killed") {
  const User user;
  Server killed(user.path("fares"), {}, user.environment());
  killed.program().signal(SIGKILL);
  CHECK(killed.program().wait() == -SIGKILL);
  CHECK(user.run("fares", {"status"}).status == 1);
  Server next(user.path("fares"), {}, user.environment());
  CHECK(user.json("fares", {"status", "--all"})["servers"].size() == 1);
  CHECK(next.stop() == 0);
  Program list({"sh", "-c", "ls " + user.path("state") + "/upright-porter | wc -l"});
  CHECK(list.output() == "0\n");
}

TEST_CASE("another server of the user is not told to be killed") {
  const User user;
  Server fares(user.path("fares"), {}, user.environment());
  user.folder.write("tides/uporter.toml",
                    "addresses = " + std::to_string(fares.port()) + "\n[site.tides]\ndocument-root = \".\"\n");
  const Outcome told = user.run(
      "tides", {"explain", "http://localhost:" + std::to_string(fares.port()) + "/", "--settings", "uporter.toml"});
  CHECK(told.status == 1);
  CHECK(has(told.output, "uporter stop --at " + std::to_string(fares.port())));
  CHECK_FALSE(has(told.output, "kill "));
  CHECK(fares.stop() == 0);
}

TEST_CASE("a rehearsal is what happens") {
  const User user;
  struct Row {
    std::string name;
    std::string script;
    int status;
    std::string body;
  };
  const std::vector<Row> rows = {
      {"nph-tide", R"(printf 'HTTP/1.1 299 High water\r\nContent-Type: text/plain\r\n\r\nhigh\n')", 299, "high\n"},
      {"to-file", R"(printf 'Location: /sub/a.txt\n\n')", 200, "x"},
      {"to-script", R"(printf 'Location: /cgi-bin/plain?x=1\n\n')", 200, "GET x=1"},
      {"to-nothing", R"(printf 'Location: /none\n\n')", 404, ""},
      {"round", R"(printf 'Location: /cgi-bin/round\n\n')", 500, ""},
      {"plain", R"(printf 'Content-Type: text/plain\n\n%s %s' "$REQUEST_METHOD" "$QUERY_STRING")", 200, "GET "},
      {"fails", "exit 3", 500, ""}};
  for (const Row& row : rows) user.folder.write("fares/cgi-bin/" + row.name, "#!/bin/sh\n" + row.script + "\n", 0755);
  Server fares(user.path("fares"), {}, user.environment());
  for (const Row& row : rows) {
    CAPTURE(row.name);
    Connection connection(fares.port());
    connection.send("GET /cgi-bin/" + row.name + " HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n");
    const Response served = connection.receive();
    const auto rehearsed = user.json("fares", {"rehearse", "cgi-bin/" + row.name, "--document-root", "."});
    CHECK(served.status == row.status);
    CHECK(rehearsed["status"] == row.status);
    if (row.status >= 400) {
      REQUIRE(rehearsed["findings"].size() == 1);
      // The page for this computer names the finding.
      const std::string code = rehearsed["findings"][0]["code"];
      CHECK(has(served.body, rehearsed["findings"][0]["sentence"]));
      CHECK_FALSE(code.empty());
    } else {
      CHECK(served.body == row.body);
      CHECK(rehearsed["body"] == row.body);
      CHECK(rehearsed["findings"].empty());
    }
  }
  // After a local redirect the log still tells which script there was.
  const std::string log = user.run("fares", {"log"}).output;
  CHECK(has(log, "cgi-bin/to-file leads to /sub/a.txt; file"));
  CHECK(fares.stop() == 0);
}

TEST_CASE("for an empty document root, what is explained is what is sent") {
  const User user;
  Program make({"mkdir", user.path("empty")});
  CHECK(make.wait() == 0);
  Server empty(user.path("empty"), {}, user.environment());
  CHECK(has(get(empty.port(), "/", "Accept: text/html\r\n").body, "empty"));
  const auto told = user.json("empty", {"explain", "http://localhost:" + std::to_string(empty.port()) + "/"});
  CHECK(has(told["outcome"], "A start page says that the document root is empty"));
  CHECK(empty.stop() == 0);
}
