// Starting, stopping, the log, and what is left behind: nothing.
#include <signal.h>

#include <atomic>
#include <catch2/catch.hpp>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;

namespace {
constexpr const char* kSlow =
    "#!/bin/sh\ntrap '' TERM\nprintf 'Content-Type: text/plain\\n\\nbegun '\nsleep %\necho ended\n";
std::string slow(const std::string& seconds) {
  std::string out = kSlow;
  return out.replace(out.find('%'), 1, seconds);
}
}  // namespace

TEST_CASE("the start lines tell where, what and who") {
  TempFolder folder;
  Server server(folder.path());
  for (const std::string& part :
       {std::string(" started"), std::string(" ms\n"), "http://localhost:" + std::to_string(server.port()) + "/",
        folder.path(), std::string("PHP 8"), std::string("this computer only"), std::string("Ctrl+C")})
    CHECK(server.start_lines().find(part) != std::string::npos);
  CHECK(server.start_lines().find('\x1b') == std::string::npos);
  Connection v6(server.port(), "::1");
  v6.send("GET / HTTP/1.1\r\nHost: [::1]\r\n\r\n");
  CHECK(v6.receive().status == 200);
  CHECK(server.stop() == 0);
}

TEST_CASE("a request cannot forge a line of the log") {
  TempFolder folder;
  Server server(folder.path());
  get(server.port(), "/a%0A00:00:00.000%1b[31m");
  Connection raw(server.port());
  raw.send("GET /\x1b[2J\xff HTTP/1.1\r\nHost: localhost\r\n\r\n");
  raw.receive();
  Connection noise(server.port());
  noise.send("\x1b[31mhello\n\n");
  noise.receive();
  get(server.port(), "/last");
  const std::string log = server.program().read_until("GET /last ");
  CHECK(log.find('\x1b') == std::string::npos);
  CHECK(log.find("\\x1b[2J\\xff") != std::string::npos);
  CHECK(log.find("\n00:00:00") == std::string::npos);
  CHECK(log.find("\\x1b[31mhello") != std::string::npos);
  CHECK(server.stop() == 0);
}

TEST_CASE("the log names what answered each request") {
  TempFolder folder;
  folder.write("a.html", "12345");
  folder.write("cgi-bin/x", "#!/bin/sh\nprintf 'Content-Type: a/b\\n\\nabc'\nexit 4\n", 0755);
  folder.write("b.php", "1");
  Server server(folder.path());
  for (const char* const target : {"/a.html", "/", "/cgi-bin/x", "/b.php", "/none"}) get(server.port(), target);
  // Workers hand their lines over on their own, so neighbouring ones may change places.
  server.program().signal(SIGTERM);
  const std::string log = server.program().output();
  for (const std::string& part :
       {std::string("GET /a.html"), std::string("5 B  file"), std::string("listing"), std::string("sh cgi-bin/x"),
        std::string("script-failed"), std::string("php-cgi b.php")}) {
    CAPTURE(part);
    CHECK(log.find(part) != std::string::npos);
  }
  CHECK(server.program().wait() == 0);
}

TEST_CASE("the log names what runs a script now, also after its first line was changed") {
  TempFolder folder;
  folder.write("cgi-bin/tides", "#!/usr/bin/perl\nprint \"Content-Type: a/b\\n\\nhigh\";\n", 0755);
  Server server(folder.path());
  const auto line_with = [&](const std::string& runner) { return runner + " cgi-bin/tides"; };
  // A state that is younger than two seconds is not relied on, so only the later of these answers is remembered.
  CHECK(get(server.port(), "/cgi-bin/tides").body == "high");
  std::this_thread::sleep_for(std::chrono::milliseconds(2100));
  CHECK(get(server.port(), "/cgi-bin/tides").body == "high");
  CHECK(server.program().read_until(line_with("perl")).find(line_with("sh")) == std::string::npos);
  folder.write("cgi-bin/tides", "#!/bin/sh\nprintf 'Content-Type: a/b\\n\\nlow'\n", 0755);
  CHECK(get(server.port(), "/cgi-bin/tides").body == "low");
  CHECK(server.program().read_until(line_with("sh")).find(line_with("sh")) != std::string::npos);
  CHECK(server.stop() == 0);
}

TEST_CASE("a stop lets what is running finish, and takes no new connections") {
  TempFolder folder;
  folder.write("cgi-bin/slow", slow("2"), 0755);
  Server server(folder.path());
  Connection connection(server.port());
  Connection idle(server.port());
  connection.send("GET /cgi-bin/slow HTTP/1.1\r\nHost: localhost\r\n\r\n");
  REQUIRE(eventually([&] { return !children_of(server.program().id()).empty(); }));
  server.program().signal(SIGINT);
  CHECK(idle.is_closed());
  CHECK_THROWS(Connection(server.port()));
  CHECK(connection.receive().body == "begun ended\n");
  CHECK(server.program().wait() == 0);
}

TEST_CASE("a stop takes five seconds at most and leaves no process behind") {
  TempFolder folder;
  folder.write("cgi-bin/slow", slow("400"), 0755);
  Server server(folder.path());
  Connection connection(server.port());
  connection.send("GET /cgi-bin/slow HTTP/1.1\r\nHost: localhost\r\n\r\n");
  REQUIRE(eventually([&] { return !children_of(server.program().id()).empty(); }));
  const pid_t script = children_of(server.program().id()).front();
  const auto begun = std::chrono::steady_clock::now();
  server.program().signal(SIGTERM);
  CHECK(server.program().wait() == 0);
  CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(10));
  // What the script started is init's to bury now.
  CHECK(eventually([&] { return ::kill(-script, 0) != 0; }));
}

TEST_CASE("a thousand requests over fifty connections leave nothing behind") {
  TempFolder folder;
  folder.write("page.html", std::string(2000, 'p'));
  folder.write("large.bin", std::string(300'000, 'l'));
  folder.write("cgi-bin/x", "#!/bin/sh\nprintf \"Content-Type: text/plain\\n\\n$QUERY_STRING\"\n", 0755);
  Server server(folder.path(), {"--threads", "2"});
  get(server.port(), "/cgi-bin/x");
  const pid_t id = server.program().id();
  REQUIRE(eventually([&] { return children_of(id).empty(); }));
  const std::size_t before = open_descriptors(id);
  std::vector<std::thread> clients;
  std::vector<int> right(50, 0);
  for (int client = 0; client < 50; ++client) {
    clients.emplace_back([&, client] {
      Connection connection(server.port());
      for (int i = 0; i < 20; ++i) {
        const std::string key = std::to_string(client * 100 + i);
        const std::string target = i % 3 == 0 ? "/cgi-bin/x?" + key : i % 3 == 1 ? "/page.html" : "/large.bin";
        const std::string expected = i % 3 == 0 ? key : i % 3 == 1 ? std::string(2000, 'p') : std::string(300'000, 'l');
        connection.send("GET " + target + " HTTP/1.1\r\nHost: localhost\r\n\r\n");
        const Response response = connection.receive();
        if (response.status == 200 && response.whole && response.body == expected)
          ++right[static_cast<std::size_t>(client)];
      }
    });
  }
  for (std::thread& client : clients) client.join();
  CHECK(right == std::vector<int>(50, 20));
  // Each of the two workers may have kept the large file open, to send it again.
  CHECK(eventually([&] { return open_descriptors(id) <= before + 2 && children_of(id).empty(); }));
  CHECK(server.stop() == 0);
}

TEST_CASE("ten thousand runs leave no process, no descriptor and no memory behind") {
  TempFolder folder;
  folder.write("cgi-bin/x", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nok'\n", 0755);
  // A sanitizer keeps what was freed, to recognise a late use; here it would look like growth.
  // What is kept of exchanges is meant to stay.
  SettledServer server(folder,
                       "addresses = [PORT]\n[exchanges]\nkeep = false\n[site.quay]\ndocument-root = \".\"\n"
                       "hosts = [\"localhost\"]\n",
                       {"--threads", "2"}, {"ASAN_OPTIONS=quarantine_size_mb=1"});
  const pid_t id = server.program().id();
  const auto run_many = [&](int count) {
    std::vector<std::thread> clients;
    std::atomic<int> right = 0;
    for (int client = 0; client < 4; ++client)
      clients.emplace_back([&] {
        Connection connection(server.port());
        for (int i = 0; i < count / 4; ++i) {
          connection.send("GET /cgi-bin/x HTTP/1.1\r\nHost: localhost\r\n\r\n");
          if (connection.receive().body == "ok") ++right;
        }
      });
    for (std::thread& client : clients) client.join();
    return right.load();
  };
  REQUIRE(run_many(1000) == 1000);
  REQUIRE(eventually([&] { return children_of(id).empty(); }));
  const std::size_t descriptors = open_descriptors(id);
  const long memory = resident_kib(id);
  CHECK(run_many(9000) == 9000);
  CHECK(eventually([&] { return children_of(id).empty() && open_descriptors(id) <= descriptors; }));
  // A leak of one run's smallest buffer would be 36 MB.
  CHECK(resident_kib(id) - memory < 30'000);
  CHECK(server.stop() == 0);
}
