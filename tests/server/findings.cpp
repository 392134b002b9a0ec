// Each finding about a run has a broken script here that provokes it; page, log and rehearsal must say the same.
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <catch2/catch.hpp>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;

namespace {

struct Row {
  std::string name;
  std::string source;
  int status;  // Of the response; 200: the page is shown, and the finding stands in the log.
  std::string code;
  std::string fact;  // A part of what is said.
};

const std::string kSh = "#!/bin/sh\n";
const std::string kHead = "printf 'Content-Type: text/plain\\n\\n'\n";

const std::vector<Row>& rows() {
  static const std::vector<Row> all = {
      {"no-x", "-", 403, "script-not-executable", "chmod +x"},
      {"plain", "no first line\n", 500, "not-a-program", "#!/bin/sh"},
      {"gone", "#!/no/such/ruby\n", 500, "interpreter-not-found", "apt-get install ruby"},
      {"cr", "#!/bin/sh\r\necho\r\n", 500, "first-line-carriage-return", "sed -i"},
      {"bom", "\xef\xbb\xbf#!/bin/sh\n", 500, "byte-order-mark", "sed -i"},
      {"elf",
       "\x7f"
       "ELF\x01\x01\x01 not for this machine",
       500, "wrong-architecture", "file "},
      {"lib", kSh + "echo 'x: error while loading shared libraries: libtide.so.1: cannot open' >&2\nexit 127\n", 500,
       "library-missing", "libtide.so.1"},
      {"nothing", kSh, 500, "wrote-nothing", "exit status 0"},
      {"stderr", kSh + "echo 'all is lost' >&2\n", 500, "only-error-stream", "all is lost"},
      {"no-head", kSh + "echo '<p>gulls'\n", 500, "no-response-head", "<p>gulls"},
      {"bad-line", kSh + "printf 'A: b\\nbad line\\n\\n'\n", 500, "response-head-malformed", "Line 2"},
      {"no-type", kSh + "printf 'X-A: b\\n\\npage'\n", 500, "no-content-type", "Content-Type"},
      {"large-head", kSh + "printf 'A: b\\n'; head -c 100000 /dev/zero | tr '\\0' a\n", 500, "response-head-too-large",
       "65536"},
      {"short", kSh + "printf 'Content-Type: a/b\\nContent-Length: 9\\n\\nabc'\n", 500, "body-shorter-than-announced",
       "9"},
      {"long", kSh + "printf 'Content-Type: a/b\\nContent-Length: 2\\n\\nabc'\n", 200, "body-longer-than-announced",
       "2"},
      {"killed", kSh + "kill -SEGV $$\n", 500, "script-killed", "SIGSEGV"},
      {"failed", kSh + "echo 'no chart room' >&2; exit 3\n", 500, "script-failed", "exit status 3"},
      {"failed-late", kSh + kHead + "echo page; exit 4\n", 200, "script-failed", "exit status 4"},
      {"failed-after-head", kSh + kHead + "exit 5\n", 500, "script-failed", "exit status 5"},
      {"slow", kSh + "sleep 100\n", 504, "script-too-slow", "4 seconds"},
      {"cpu", kSh + "while :; do :; done\n", 500, "out-of-processor-time", "1 seconds"},
      {"memory.py", "#!/usr/bin/python3\nx = b'x' * (1 << 40)\n", 500, "out-of-memory", "MemoryError"},
      {"parse.php", "<?php\n\nfunction (\n", 500, "script-error", "line 3"},
      {"fatal.php", "<?php\nno_such_function();\n", 500, "script-error", "line 2"},
      {"trace.py", "#!/usr/bin/python3\nx = 1\nraise ValueError('no tide')\n", 500, "script-error", "line 3"},
      {"trace-late.py", "#!/usr/bin/python3\nprint('Content-Type: text/plain\\n')\nprint(tide)\n", 500, "script-error",
       "line 3"},
      {"die.pl", "#!/usr/bin/perl\nuse strict;\ndie 'no tide';\n", 500, "script-error", "line 3"},
      {"syntax.pl", "#!/usr/bin/perl\nuse strict;\n$x = 1;\n", 500, "script-error", "line 3"},
      {"error.rb", "#!/usr/bin/ruby\n\n\nraise 'no tide'\n", 500, "script-error", "line 4"},
      {"error.sh", kSh + "set -e\nferry --now\n", 500, "script-error", "line 3"},
      {"error.lua", "#!/usr/bin/lua\nerror('no tide')\n", 500, "script-error", "line 2"},
      {"error.tcl", "#!/usr/bin/tclsh\n\nferry\n", 500, "script-error", "line 3"},
      {"input.py", "#!/usr/bin/python3\ninput()\n", 500, "read-past-input", "0 bytes"},
      {"where.py", "#!/usr/bin/python3\nopen('data/tides.csv')\n", 500, "wrong-working-directory", "../data/tides.csv"},
      {"env-cr.py", "#!/usr/bin/env python3\r\nprint()\r\n", 500, "first-line-carriage-return", "\"python3\""},
      {"env-typo.py", "#!/usr/bin/env pyton\n", 500, "interpreter-not-found", "Did you mean python3?"},
      {"typo.py", "#!/usr/bin/pyton3\n", 500, "interpreter-not-found", "Did you mean python3?"},
      {"module.py", "#!/usr/bin/python3\nimport no_such_tide.deep\n", 500, "module-missing", "pip install"},
      {"module.pl", "#!/usr/bin/perl\nuse No::Such::Tide;\n", 500, "module-missing", "cpan No::Such::Tide"},
      {"module.rb", "#!/usr/bin/ruby\nrequire 'no_such_tide'\n", 500, "module-missing", "gem install"},
      {"module.js", "#!/usr/bin/node\nrequire('no-such-tide');\n", 500, "module-missing", "npm install no-such-tide"},
      {"part.py", "#!/usr/bin/python3\nprint('Content-Type: text/plain\\n\\nfirst')\nraise ValueError('fog')\n", 500,
       "script-error", "first\n"},
      {"part.php", "<?php echo 'first';\nno_such_function();\n", 500, "script-error", "first"},
      {"sanitizer", kSh + "echo '==7==ERROR: AddressSanitizer failed to allocate 0xdfff0001000 bytes' >&2; exit 1\n",
       500, "sanitizer-needs-addresses", "address-space = "},
      {"write.py", "#!/usr/bin/python3\nraise PermissionError(13, 'Permission denied', '/srv/log')\n", 500,
       "write-not-permitted", "/srv/log"},
  };
  return all;
}

}  // namespace

TEST_CASE("each way of failing is recognised, alike on the page, in the log and in a rehearsal") {
  TempFolder folder;
  folder.write("data/tides.csv", "x");
  for (const Row& row : rows()) folder.write("cgi-bin/" + row.name, row.source, row.source == "-" ? 0644 : 0755);
  // Each limit is met by one row, and far out of the way of all others.
  Server usual(folder.path(), {"--limit", "first-byte=600"});
  Server hurried(folder.path(), {"--limit", "first-byte=4"});
  Server frugal(folder.path(), {"--limit", "first-byte=600", "--limit", "processor-time=1"});
  for (const Row& row : rows()) {
    const std::string target = "/cgi-bin/" + row.name;
    CAPTURE(target);
    const Server& server = row.name == "slow" ? hurried : row.name == "cpu" ? frugal : usual;
    const Response response = get(server.port(), target);
    CHECK(response.status == row.status);
    if (row.status != 200) {
      CHECK(response.body.find("(" + row.code + ")") != std::string::npos);
      CHECK(response.body.find(row.fact) != std::string::npos);
    }
    // The limits of a rehearsal are the usual ones; what needs others is left out.
    if (row.name == "slow" || row.name == "cpu") continue;
    Program rehearsal({built("uporter"), "rehearse", folder.path() + target, "--document-root", folder.path()});
    const std::string said = rehearsal.output();
    CHECK(rehearsal.wait() == (row.status < 400 ? 0 : 1));
    CHECK(said.find("Finding      " + row.code) != std::string::npos);
    CHECK(said.find(row.fact) != std::string::npos);
  }
  std::string log;
  for (Server* const server : {&usual, &hurried, &frugal}) {
    server->program().signal(SIGTERM);
    log += server->program().output();
    CHECK(server->program().wait() == 0);
  }
  for (const Row& row : rows()) {
    const std::size_t line = log.find("GET /cgi-bin/" + row.name + " ");
    REQUIRE(line != std::string::npos);
    CAPTURE(row.name, log.substr(line, log.find('\n', line) - line));
    CHECK(log.substr(line, log.find('\n', line) - line).find(row.code) != std::string::npos);
  }
}

TEST_CASE("the source around an error is shown to this computer") {
  TempFolder folder;
  folder.write("cgi-bin/x.py", "#!/usr/bin/python3\nfirst = 1\nraise ValueError('no tide')\nlast = 2\n", 0755);
  Server server(folder.path());
  const Response html = get(server.port(), "/cgi-bin/x.py", "Accept: text/html\r\n");
  CHECK(html.body.find("<span class=\"mark\">    3  raise ValueError(&#39;no tide&#39;)</span>") != std::string::npos);
  CHECK(html.body.find("    4  last = 2") != std::string::npos);
  // The console shows the rest.
  CHECK(html.body.find("/#/exchanges/1\">") != std::string::npos);
  CHECK(get(server.port(), "/cgi-bin/x.py").body.find(">     3  raise ValueError('no tide')") != std::string::npos);
  CHECK(server.stop() == 0);
}

TEST_CASE("scripts wait for their turn, and beyond the queue are refused") {
  TempFolder folder;
  folder.write("cgi-bin/x", kSh + "sleep 1\n" + kHead + "echo ok\n", 0755);
  Server server(folder.path(), {"--limit", "runs=1", "--limit", "queue=2"});
  std::vector<std::thread> clients;
  std::vector<int> statuses(6, 0);
  for (std::size_t i = 0; i < statuses.size(); ++i)
    clients.emplace_back([&, i] { statuses[i] = get(server.port(), "/cgi-bin/x").status; });
  for (std::thread& client : clients) client.join();
  CHECK(std::count(statuses.begin(), statuses.end(), 200) == 3);
  CHECK(std::count(statuses.begin(), statuses.end(), 503) == 3);
  CHECK(get(server.port(), "/cgi-bin/x").body == "ok\n");
  CHECK(server.stop() == 0);
}

TEST_CASE("killing the server hard leaves no script running, nor what it started") {
  TempFolder folder;
  const std::string mark = folder.path() + "/pid";
  folder.write("cgi-bin/x", kSh + "sleep 500 &\necho $$ > " + mark + "\nwait\n", 0755);
  Server server(folder.path());
  Connection connection(server.port());
  connection.send("GET /cgi-bin/x HTTP/1.1\r\nHost: localhost\r\n\r\n");
  REQUIRE(
      eventually([&] { return children_of(server.program().id()).size() == 1 && ::access(mark.c_str(), F_OK) == 0; }));
  pause_ms(50);
  const pid_t group = children_of(server.program().id()).front();
  server.program().signal(SIGKILL);
  CHECK(server.program().wait() == -SIGKILL);
  CHECK(eventually([&] { return ::kill(-group, 0) != 0; }));
}

TEST_CASE("programs that speak to the client directly are not interfered with") {
  TempFolder folder;
  folder.write("cgi-bin/nph-x", kSh + "printf 'HTTP/1.1 299 Ahoy\\r\\nX: y\\r\\n\\r\\nhello'\n", 0755);
  Server server(folder.path());
  Connection connection(server.port());
  connection.send("GET /cgi-bin/nph-x HTTP/1.1\r\nHost: localhost\r\n\r\n");
  CHECK(connection.receive_all() == "HTTP/1.1 299 Ahoy\r\nX: y\r\n\r\nhello");
  CHECK(server.stop() == 0);
}

TEST_CASE("an ending decides where a first line is missing, in script folders only") {
  struct Row2 {
    std::string name, source, body;
  };
  TempFolder folder;
  Server server(folder.path());
  for (const Row2& row : {Row2{"a.pl", "print \"Content-Type: a/b\\n\\n\", 6*7", "42"},
                          Row2{"a.py", "print('Content-Type: a/b\\n\\n42', end='')", "42"},
                          Row2{"a.rb", "print \"Content-Type: a/b\\n\\n42\"", "42"},
                          Row2{"a.lua", "io.write('Content-Type: a/b\\n\\n42')", "42"},
                          Row2{"a.tcl", "puts -nonewline \"Content-Type: a/b\\n\\n42\"", "42"},
                          Row2{"a.sh", "printf 'Content-Type: a/b\\n\\n42'", "42"}, Row2{"a.php", "42", "42"},
                          Row2{"a.js", "process.stdout.write('Content-Type: a/b\\n\\n42')", "42"},
                          Row2{"A.java",
                               "class A { public static void main(String[] a) { System.out.print(\"Content-Type: "
                               "a/b\\n\\n42\"); } }",
                               "42"},
                          Row2{"a.R", "cat('Content-Type: a/b\\n\\n42')", "42"}}) {
    CAPTURE(row.name);
    folder.write("cgi-bin/" + row.name, row.source, 0755);
    CHECK(get(server.port(), "/cgi-bin/" + row.name).body == row.body);
    folder.write(row.name, row.source);
    const Response outside = get(server.port(), "/" + row.name);
    if (row.name == "a.php" || row.name == "a.js") {
      CHECK(outside.status == 200);
    } else {
      CHECK(outside.status == 403);
      CHECK(outside.body.find("script-outside-script-folder") != std::string::npos);
    }
  }
  CHECK(server.stop() == 0);
}

TEST_CASE("what is wrong though there is a page stands in the log, with what scripts wrote to their error streams") {
  TempFolder folder;
  folder.write("cgi-bin/warns", kSh + kHead + "for i in $(seq 30); do echo \"fog $i\" >&2; done; echo page\n", 0755);
  folder.write("cgi-bin/own-500",
               kSh + "printf 'Status: 500\\nContent-Type: text/plain\\n\\nown page'; echo trace >&2\n", 0755);
  folder.write("logs.php", "<?php error_log('tide high'); echo 'Shop\\Router';");
  folder.write("empty.php", "<?php header('Location: '); header('X-Quay:'); echo 'page';");
  folder.write("short.php", "<? echo 1 ?>");
  folder.write("page.html", "<p><?php echo 1 ?>");
  folder.write("part.inc", "<?php $password = 1;");
  folder.write("plain.html", "<p>gulls");
  Server server(folder.path());
  struct Page {
    const char* path;
    int status;
    std::string body;
    std::string log;
  };
  const std::vector<Page> pages = {{"/cgi-bin/warns", 200, "page\n", "! fog 20\n              ! … and 10 more lines\n"},
                                   {"/cgi-bin/own-500", 500, "own page", "! trace\n"},
                                   {"/logs.php", 200, "Shop\\Router", "! tide high\n"},
                                   {"/empty.php", 302, "page", "empty.php\n"},
                                   {"/short.php", 200, "<? echo 1 ?>", "short-tags-off: "},
                                   {"/page.html", 200, "<p><?php echo 1 ?>", "source-sent-as-text: "},
                                   {"/part.inc", 200, "<?php $password = 1;", "source-sent-as-text: "},
                                   {"/plain.html", 200, "<p>gulls", "  file\n"}};
  for (const Page& page : pages) {
    CAPTURE(page.path);
    const Response response = get(server.port(), page.path);
    CHECK(response.status == page.status);
    CHECK(response.body == page.body);
    if (page.status == 302) CHECK(response.fields.contains("location"));
  }
  server.program().signal(SIGTERM);
  const std::string log = server.program().output();
  CHECK(server.program().wait() == 0);
  for (const Page& page : pages) {
    CAPTURE(page.path, log);
    const std::size_t line = log.find(std::string("GET ") + page.path + " ");
    REQUIRE(line != std::string::npos);
    const std::size_t next = log.find("  GET ", line + 1);
    CHECK(log.substr(line, next - line).find(page.log) != std::string::npos);
  }
}

TEST_CASE("scripts of a site without time limits may take as long as they like") {
  TempFolder folder;
  for (const std::string site : {"slow", "quick"})
    folder.write(site + "/cgi-bin/x", kSh + "sleep 2\n" + kHead + "echo page\n", 0755);
  SettledServer server(folder,
                       "addresses = [PORT]\n[site.quick]\ndocument-root = \"quick\"\n"
                       "[site.slow]\ndocument-root = \"slow\"\ntime-limits = false\n[limits]\nfirst-byte = 1\n");
  for (const auto& [site, status] : {std::pair{"slow", 200}, {"quick", 504}}) {
    CHECK(ask_host(server.port(), std::string(site) + ".localhost", "/cgi-bin/x").status == status);
  }
  CHECK(server.stop() == 0);
}
