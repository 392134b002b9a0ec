#include <unistd.h>

#include <catch2/catch.hpp>
#include <csignal>

#include "support/support.hpp"

using namespace porter::test;

namespace {
constexpr const char* kEcho =
    "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n'\n"
    "echo \"$REQUEST_METHOD|$CONTENT_LENGTH|$PATH_INFO|$QUERY_STRING|$(pwd)\"\ncat\n";
}

TEST_CASE("each kind of script runs and its page arrives") {
  struct Row {
    std::string name;
    std::string source;
    std::string body;
  };
  const auto row = GENERATE(values<Row>({
      {"notices.php", "<p><?= 6 * 7 ?></p>", "<p>42</p>"},
      {"deep/er.php", "<?= $_SERVER['PATH_INFO'] ?? 'none' ?>", "none"},
      {"cgi-bin/tides.pl", "#!/usr/bin/perl\nprint \"Content-Type: text/plain\\n\\n\", 6 * 7;", "42"},
      {"cgi-bin/timetable.py", "#!/usr/bin/python3\nprint('Content-Type: text/plain\\n')\nprint(6 * 7)", "42\n"},
      {"cgi-bin/status", "#!/bin/sh\nprintf 'Content-Type: text/plain\\r\\n\\r\\n'; echo $((6 * 7))", "42\n"},
      {"cgi-bin/sub/by-env", "#!/usr/bin/env perl\nprint \"Status: 200 Fine\\nContent-Type: a/b\\n\\n42\"", "42"},
  }));
  TempFolder folder;
  folder.write(row.name, row.source, row.name.ends_with("php") ? 0644 : 0755);
  Server server(folder.path());
  CAPTURE(row.name);
  const Response response = get(server.port(), "/" + row.name);
  CHECK(response.status == 200);
  CHECK(response.whole);
  CHECK(response.body == row.body);
  CHECK(server.stop() == 0);
}

TEST_CASE("the demo's pages are computed from its data") {
  Server server(PORTER_DEMO "/public");
  struct Row {
    std::string target;
    std::string part;
  };
  for (const auto& row : {Row{"/", "Four harbours"}, Row{"/style.css", "--sea"},
                          Row{"/cgi-bin/timetable.py?port=MOR&day=3", "<td>13:50</td>"},
                          Row{"/cgi-bin/timetable.py?port=XXX", "no such harbour"},
                          Row{"/cgi-bin/tides.pl?port=TAN", "High water"}, Row{"/notices.php?port=LIN", "Linnet Isle"},
                          Row{"/cgi-bin/status.sh", "Sanderling"}, Row{"/photos/", "How to fold a paper ferry.txt"}}) {
    CAPTURE(row.target);
    CHECK(get(server.port(), row.target).body.find(row.part) != std::string::npos);
  }
  CHECK(server.stop() == 0);
}

TEST_CASE("a compiled program answers a form by GET and by POST") {
  TempFolder folder;
  const std::string data = PORTER_DEMO "/data";
  REQUIRE(::symlink(data.c_str(), (folder.path() + "/data").c_str()) == 0);
  folder.write("pages/cgi-bin/.keep", "");
  const std::string program = PORTER_BUILT "/../demo/fares";
  REQUIRE(std::system(("cp " + program + " " + folder.path() + "/pages/cgi-bin/fares").c_str()) == 0);
  Server server(folder.path() + "/pages");
  CHECK(get(server.port(), "/cgi-bin/fares?from=SKE&to=TAN&adult=2").body.find("17.80") != std::string::npos);
  const Response posted =
      request(server.port(), "POST", "/cgi-bin/fares", "Content-Type: application/x-www-form-urlencoded\r\n",
              "from=SKE&to=MOR&adult=2&car=1");
  CHECK(posted.body.find("31.30") != std::string::npos);
  CHECK(server.stop() == 0);
}

TEST_CASE("a script is told what was asked for, and reads the body") {
  TempFolder folder;
  folder.write("cgi-bin/echo", kEcho, 0755);
  Server server(folder.path());
  const std::string here = folder.path() + "/cgi-bin";
  CHECK(get(server.port(), "/cgi-bin/echo/a%20b/c?x=1").body == "GET||/a b/c|x=1|" + here + "\n");
  CHECK(request(server.port(), "POST", "/cgi-bin/echo", "", "adult=2").body ==
        "POST|7||"
        "|" +
            here + "\nadult=2");
  CHECK(request(server.port(), "PUT", "/cgi-bin/echo", "", "x").body.starts_with("PUT|1|"));

  Connection chunked(server.port());
  chunked.send("POST /cgi-bin/echo HTTP/1.1\r\nHost: localhost\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nadult\r\n");
  pause_ms(50);
  chunked.send("2\r\n=2\r\n0\r\n\r\nGET /cgi-bin/echo HTTP/1.1\r\nHost: localhost\r\n\r\n");
  CHECK(chunked.receive().body == "POST|7|||" + here + "\nadult=2");
  CHECK(chunked.receive().body == "GET||||" + here + "\n");

  const std::string large(3'000'000, 'g');
  const Response echoed = request(server.port(), "POST", "/cgi-bin/echo", "", large);
  CHECK(echoed.body.size() == large.size() + ("POST|3000000|||" + here + "\n").size());

  Connection head(server.port());
  head.send(
      "HEAD /cgi-bin/echo HTTP/1.1\r\nHost: localhost\r\n\r\nGET /cgi-bin/echo HTTP/1.1\r\nHost: localhost\r\n\r\n");
  CHECK(head.receive(true).status == 200);
  CHECK(head.receive().body.starts_with("GET|"));

  Connection old(server.port());
  old.send("GET /cgi-bin/echo HTTP/1.0\r\n\r\n");
  const Response response = old.receive();
  CHECK(response.field("transfer-encoding").empty());
  CHECK(response.body == "GET||||" + here + "\n");
  CHECK(server.stop() == 0);
}

TEST_CASE("PHP that is not installed is named with its package, and its source stays here") {
  TempFolder folder;
  folder.write("a.php", "<?php // SOURCE");
  Program program({built("uporterd"), "--folder", folder.path(), "--port", "0"}, {"PATH=/nowhere"});
  const std::string lines = program.read_until("Ctrl+C\n\n");
  CHECK(lines.find("Not installed  PHP") != std::string::npos);
  const auto port = static_cast<std::uint16_t>(std::stoi(lines.substr(lines.find("localhost:") + 10)));
  const Response response = get(port, "/a.php");
  CHECK(response.status == 500);
  CHECK(response.body.find("sudo apt-get install php-cgi") != std::string::npos);
  CHECK(response.body.find("SOURCE") == std::string::npos);
  program.signal(SIGTERM);
  CHECK(program.wait() == 0);
}

TEST_CASE("redirects of scripts are followed inside or passed on") {
  TempFolder folder;
  folder.write("page.html", "the page");
  folder.write("cgi-bin/local", "#!/bin/sh\nprintf 'Location: /page.html\\n\\n'\n", 0755);
  folder.write("cgi-bin/away", "#!/bin/sh\nprintf 'Location: http://localhost/x\\n\\n'\n", 0755);
  Server server(folder.path());
  CHECK(get(server.port(), "/cgi-bin/local").body == "the page");
  CHECK(request(server.port(), "POST", "/cgi-bin/local", "", "a=1").body == "the page");
  folder.write("cgi-bin/circle", "#!/bin/sh\nprintf 'Location: /cgi-bin/circle\\n\\n'\n", 0755);
  CHECK(get(server.port(), "/cgi-bin/circle").body.find("too-many-local-redirects") != std::string::npos);
  const Response away = get(server.port(), "/cgi-bin/away");
  CHECK(away.status == 302);
  CHECK(away.field("location") == "http://localhost/x");
  CHECK(server.stop() == 0);
}

TEST_CASE("a script gets a clean environment, its own folder, and no descriptor but three") {
  TempFolder folder;
  folder.write("cgi-bin/look",
               "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n'\nenv\nls /proc/self/fd | tr '\\n' ' '\n", 0755);
  Program program({built("uporterd"), "--folder", folder.path(), "--port", "0"}, {"SECRET_TOKEN=gull"});
  const std::string lines = program.read_until("Ctrl+C\n\n");
  const auto port = static_cast<std::uint16_t>(std::stoi(lines.substr(lines.find("localhost:") + 10)));
  const std::string body = get(port, "/cgi-bin/look", "Proxy: http://evil\r\n").body;
  CHECK(body.find("SECRET_TOKEN") == std::string::npos);
  CHECK(body.find("HTTP_PROXY") == std::string::npos);
  CHECK(body.find("PATH=") != std::string::npos);
  // The fourth is the folder that ls itself reads.
  CHECK(body.ends_with("0 1 2 3 "));
  program.signal(SIGTERM);
  CHECK(program.wait() == 0);
}

TEST_CASE("when the client leaves, the script goes on to its limit, and all that it started ends with it") {
  TempFolder folder;
  const std::string mark = folder.path() + "/pids";
  folder.write("cgi-bin/slow", "#!/bin/sh\nsleep 300 &\necho $! $$ > " + mark + "\nwait\n", 0755);
  Server server(folder.path(), {"--limit", "total-time=2"});
  {
    Connection connection(server.port());
    connection.send("GET /cgi-bin/slow HTTP/1.1\r\nHost: localhost\r\n\r\n");
    REQUIRE(eventually(
        [&] { return ::access(mark.c_str(), R_OK) == 0 && children_of(server.program().id()).size() == 1; }));
  }
  CHECK(eventually([&] { return children_of(server.program().id()).empty(); }));
  CHECK(server.stop() == 0);
}

TEST_CASE("output goes out as it is written, and neither a background process nor a long error stream holds it up") {
  TempFolder folder;
  const std::string go_on = folder.path() + "/go-on";
  folder.write("cgi-bin/step",
               "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n'\necho one\nwhile [ ! -e " + go_on +
                   " ]; do sleep 0.05; done\necho two\n",
               0755);
  folder.write("cgi-bin/noisy",
               "#!/bin/sh\nhead -c 300000 /dev/zero | tr '\\0' '.' >&2\nprintf 'Content-Type: text/plain\\n\\ntold'\n",
               0755);
  folder.write("cgi-bin/elsewhere", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nleft'\nsetsid sleep 300 &\n",
               0755);
  folder.write("cgi-bin/leave", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\ndone'\nsleep 300 &\n", 0755);
  Server server(folder.path());
  Connection connection(server.port());
  connection.send("GET /cgi-bin/step HTTP/1.1\r\nHost: localhost\r\n\r\n");
  CHECK(has(connection.receive_until("one"), "one"));
  folder.write("go-on", "");
  CHECK(has(connection.receive_until("two"), "two"));
  const auto begun = std::chrono::steady_clock::now();
  CHECK(get(server.port(), "/cgi-bin/leave").body == "done");
  CHECK(get(server.port(), "/cgi-bin/elsewhere").body == "left");
  CHECK(get(server.port(), "/cgi-bin/noisy").body == "told");
  CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(100));
  CHECK(server.stop() == 0);
}

TEST_CASE("a script's response head keeps out what is the server's, and what would break a line") {
  TempFolder folder;
  folder.write("cgi-bin/date", "#!/bin/sh\nprintf 'Date: Mon, 01 Jan 2001 00:00:00 GMT\\nContent-Type: a/b\\n\\nx'\n",
               0755);
  folder.write("cgi-bin/cr", "#!/bin/sh\nprintf 'Status: 200 fine\\rX-Forged: yes\\nContent-Type: a/b\\n\\nx'\n", 0755);
  folder.write("cgi-bin/line", "#!/bin/sh\nprintf 'HTTP/1.1 200 fine\\rX-Forged: yes\\nContent-Type: a/b\\n\\nx'\n",
               0755);
  folder.write("cgi-bin/nul", "#!/bin/sh\nprintf 'HTTP/1.1 200 fi\\0ne\\nContent-Type: a/b\\n\\nx'\n", 0755);
  folder.write("cgi-bin/two", "#!/bin/sh\nprintf 'Content-Length: 1\\nContent-Length: 2\\nContent-Type: a/b\\n\\nx'\n",
               0755);
  Server server(folder.path());
  const Response dated = get(server.port(), "/cgi-bin/date");
  CHECK(dated.fields.count("date") == 1);
  CHECK(dated.field("date").find("2001") == std::string::npos);
  for (const char* const name : {"cr", "line", "nul", "two"}) {
    CAPTURE(name);
    const Response response = get(server.port(), std::string("/cgi-bin/") + name);
    CHECK(response.status == 500);
    CHECK(response.head.find("X-Forged") == std::string::npos);
    CHECK(response.head.find('\0') == std::string::npos);
  }
  CHECK(server.stop() == 0);
}
