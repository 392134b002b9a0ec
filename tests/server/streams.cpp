// Scripts that stream and scripts that wait: who has a turn, who gives it back, and what those are told who get none.
#include <catch2/catch.hpp>
#include <chrono>
#include <memory>

#include "support/support.hpp"

using namespace porter::test;

namespace {

constexpr auto kStream =
    "#!/bin/sh\n"
    "printf 'Content-Type: text/event-stream\\n\\n'\n"
    "while :; do printf 'data: tide\\n\\n'; sleep 1; done\n";
constexpr auto kSlowPage =
    "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nboat\\n'\nwhile :; do echo x; sleep 1; done\n";
constexpr auto kSilent = "#!/bin/sh\nexec sleep 300\n";

std::unique_ptr<Connection> ask(std::uint16_t port, const std::string& path) {
  auto connection = std::make_unique<Connection>(port);
  connection->send("GET " + path + " HTTP/1.1\r\nHost: localhost\r\n\r\n");
  return connection;
}

bool begins(Connection& connection) {
  return eventually(
      [&] { return connection.receive_all(std::chrono::milliseconds(100)).find("200 OK") != std::string::npos; });
}

bool runs(Server& server) {
  return eventually([&] { return !children_of(server.program().id()).empty(); });
}

double seconds_for(const std::function<void()>& work) {
  const auto begun = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
}

}  // namespace

TEST_CASE("sixty open streams leave files, PHP and Python pages of all sites as they were") {
  TempFolder folder;
  for (const std::string site : {"harbour", "fares"}) {
    folder.write(site + "/cgi-bin/stream", kStream, 0755);
    folder.write(site + "/a.html", site);
    folder.write(site + "/page.php", "<?php echo '" + site + "';");
    folder.write(site + "/cgi-bin/page.py", "#!/usr/bin/python3\nprint('Content-Type: text/plain\\n\\n" + site + "')\n",
                 0755);
  }
  SettledServer server(folder,
                       "addresses = [PORT]\n[site.harbour]\ndocument-root = \"harbour\"\nhosts = [\"localhost\"]\n"
                       "[site.fares]\ndocument-root = \"fares\"\n[limits]\nruns = 2\n"
                       "[interpreter.PHP]\nidle-time = 1\n");
  std::vector<std::unique_ptr<Connection>> streams;
  for (int i = 0; i < 60; ++i) streams.push_back(ask(server.port(), "/cgi-bin/stream"));
  REQUIRE(begins(*streams.back()));
  for (const std::string site : {"harbour", "fares"}) {
    const std::string host = site == "harbour" ? "localhost" : site + ".localhost";
    for (const std::string path : {"/a.html", "/page.php", "/cgi-bin/page.py"}) {
      CAPTURE(site, path);
      Response response;
      const double seconds = seconds_for([&] { response = ask_host(server.port(), host, path); });
      CHECK(response.status == 200);
      CHECK(response.body.find(site) != std::string::npos);
      CHECK(seconds < 3);
    }
  }
  streams.clear();
  CHECK(eventually([&] { return children_of(server.program().id()).empty(); }));
  CHECK(server.stop() == 0);
}

TEST_CASE("a page that goes on for more than a second gives its turn back") {
  TempFolder folder;
  folder.write("cgi-bin/slow", kSlowPage, 0755);
  folder.write("cgi-bin/quick", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nquick'\n", 0755);
  Server server(folder.path(), {"--limit", "runs=1"});
  const auto slow = ask(server.port(), "/cgi-bin/slow");
  REQUIRE(runs(server));
  const double seconds = seconds_for([&] { CHECK(get(server.port(), "/cgi-bin/quick").body == "quick"); });
  CHECK(seconds < 5);
  CHECK(server.stop() == 0);
}

TEST_CASE("who waits for a turn for too long is told which scripts hold them, and what to change") {
  struct Row {
    const char* name;
    std::vector<std::string> limits;
    const char* script;
    int holders;
    std::string key;
  };
  const auto row = GENERATE(values<Row>({
      {"turns", {"runs=2"}, "silent", 2, "runs = 4"},
      {"runs in all", {"runs=2", "runs-most=3"}, "stream", 3, "runs-most = 6"},
  }));
  CAPTURE(row.name);
  TempFolder folder;
  folder.write("cgi-bin/silent", kSilent, 0755);
  folder.write("cgi-bin/stream", kStream, 0755);
  std::vector<std::string> options = {"--limit", "queue-time=1"};
  for (const std::string& limit : row.limits) options.insert(options.end(), {"--limit", limit});
  Server server(folder.path(), options);
  std::vector<std::unique_ptr<Connection>> holders;
  for (int i = 0; i < row.holders; ++i) holders.push_back(ask(server.port(), std::string("/cgi-bin/") + row.script));
  REQUIRE(
      eventually([&] { return children_of(server.program().id()).size() >= static_cast<std::size_t>(row.holders); }));
  const Response response = get(server.port(), "/cgi-bin/silent");
  CHECK(response.status == 503);
  CHECK_FALSE(response.field("retry-after").empty());
  CHECK(response.body.find("waited-too-long") != std::string::npos);
  CHECK(response.body.find(folder.path() + "/cgi-bin/" + row.script + " (site ") != std::string::npos);
  CHECK(response.body.find(row.key) != std::string::npos);
  holders.clear();
  CHECK(server.stop() == 0);
}

TEST_CASE("a client that leaves while it waits gives its place in the queue to the next") {
  TempFolder folder;
  folder.write("cgi-bin/silent", kSilent, 0755);
  folder.write("cgi-bin/quick", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nquick'\n", 0755);
  Server server(folder.path(), {"--limit", "runs=1", "--limit", "queue=1"});
  auto holder = ask(server.port(), "/cgi-bin/silent");
  REQUIRE(runs(server));
  auto waiting = ask(server.port(), "/cgi-bin/quick");
  pause_ms(1000);
  CHECK(get(server.port(), "/cgi-bin/quick").status == 503);
  waiting.reset();
  pause_ms(1500);
  auto next = ask(server.port(), "/cgi-bin/quick");
  pause_ms(1000);
  holder.reset();
  CHECK(next->receive().body == "quick");
  CHECK(server.stop() == 0);
}
