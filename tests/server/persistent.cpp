// Persistent interpreters: the same pages and the same findings as from a process for each request, edits seen at
// once, and nothing lost or left when processes end in whatever way.
#include <netinet/in.h>
#include <signal.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <catch2/catch.hpp>
#include <filesystem>
#include <fstream>
#include <map>
#include <set>
#include <sstream>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;

namespace {

const std::string kPid = "<?php echo getmypid();";

/// One folder served twice: at port() with pooled processes, at fresh_port() with one for each request.
class TwoWays {
 public:
  explicit TwoWays(TempFolder& folder, const std::string& more = "")
      : fresh_port_(free_port()),
        server_(folder,
                "addresses = [PORT]\n[site.kept]\ndocument-root = \"pages\"\nhosts = [\"localhost\"]\n"
                "[site.fresh]\ndocument-root = \"pages\"\nhosts = [\"localhost\"]\naddresses = [" +
                    std::to_string(fresh_port_) + "]\n[site.fresh.interpreter.PHP]\npersistent = false\n" + more) {}

  SettledServer& server() { return server_; }
  std::uint16_t port() const { return server_.port(); }
  std::uint16_t fresh_port() const { return fresh_port_; }

 private:
  std::uint16_t fresh_port_;
  SettledServer server_;
};

/// A response as text, without what differs from one to the next in any case: a page that is there at once is sent with
/// its length, unless the script `is_announced` by that itself.
std::string text_of(const Response& response, bool is_announced) {
  std::string out = std::to_string(response.status) + " " + response.reason + "\n";
  for (const auto& [name, value] : response.fields)
    if (name != "date" && name != "transfer-encoding" && name != "connection" &&
        (name != "content-length" || is_announced))
      out += name + ": " + value + "\n";
  return out + "\n" + response.body;
}

/// The code of the finding that a problem page tells of; empty: it is none.
std::string code_in(const Response& response) {
  const std::size_t begin = response.body.find(" (");
  const std::size_t end = response.body.find(')', begin);
  return response.status < 400 || begin == std::string::npos ? "" : response.body.substr(begin + 2, end - begin - 2);
}

/// The last of three answers on one connection: of those to requests like `head` without a body, the server has found
/// before what the second leads to.
Response ask_again(std::uint16_t port, const std::string& head) {
  Response response;
  Connection connection(port);
  for (const std::string& one : {std::string("GET /none.txt"), head.substr(0, head.find(" HTTP/1.1")), head}) {
    connection.send(one.find(" HTTP/1.1") == one.npos ? one + " HTTP/1.1\r\nHost: localhost\r\n\r\n" : one);
    response = connection.receive();
  }
  return response;
}

/// Settings of one site with pooled processes, and what is to be said of PHP.
std::string persistent_site(const std::string& of_php = "") {
  return "addresses = [PORT]\n[exchanges]\nkeep = false\n[site.kept]\ndocument-root = \"pages\"\n"
         "hosts = [\"localhost\"]\n[interpreter.PHP]\n" +
         of_php;
}

}  // namespace

TEST_CASE("a page is the same from a pooled process and from a fresh one") {
  TempFolder folder;
  const std::string pages = "pages/";
  folder.write(pages + "sub/part.inc", "<?php return 'part of ' . __DIR__ . ' in ' . getcwd();");
  folder.write(pages + "tide.csv", "07:40");
  std::filesystem::create_directory(folder.path() + "/sessions");
  struct Page {
    std::string name;
    std::string source;
    std::string method = "GET";
    std::string query = "";
    std::string fields = "";
    std::string body = "";
  };
  const std::string form = "Content-Type: application/x-www-form-urlencoded\r\n";
  const std::vector<Page> all = {
      {"plain", "<?php echo 'Kittiwake';"},
      {"empty", "<?php"},
      {"html", "<p>gulls</p>\n<?= 1 + 1 ?>\n"},
      {"status", "<?php http_response_code(404); echo 'no such ferry';"},
      {"reason", "<?php header('HTTP/1.1 418 Short And Stout'); echo 'tea';"},
      {"location", "<?php header('Location: /elsewhere');"},
      {"cookies",
       "<?php setcookie('a', 'b c'); setcookie('d', 'e'); header('X-A: 1'); header('X-A: 2', false); echo "
       "$_COOKIE['boat'] ?? '';",
       "GET", "", "Cookie: boat=gull\r\n"},
      {"type", "<?php header('Content-Type: application/json'); echo json_encode($_GET);", "GET", "?a[]=1&a[]=2"},
      {"exit", "<?php echo 'a'; exit; echo 'b';"},
      {"exit-text", "<?php exit('fog');"},
      {"shutdown", "<?php register_shutdown_function(function () { echo 'last'; }); echo 'first '; exit;"},
      {"buffer", "<?php ob_start(); echo 'abc'; header('X-Late: yes'); echo strtoupper(ob_get_clean());"},
      {"flush", "<?php echo 'a'; flush(); echo 'b'; flush(); echo 'c';"},
      {"include", "<?php echo include 'sub/part.inc'; echo file_get_contents('tide.csv'), ' ', getcwd();"},
      {"info", "<?php echo $_SERVER['PATH_INFO'] ?? '-', $_SERVER['SCRIPT_NAME'], $_SERVER['PHP_SELF'];", "GET",
       "/over/there?x"},
      {"form", "<?php ksort($_POST); echo json_encode($_POST), $_SERVER['CONTENT_LENGTH'];", "POST", "", form,
       "boat=gull&seats%5B%5D=3"},
      {"input", "<?php $in = file_get_contents('php://input'); echo strlen($in), md5($in);", "PUT", "",
       "Content-Type: a/b\r\n", std::string(300000, 'k')},
      {"papers", "<?php $in = file_get_contents('php://input'); echo strlen($in), md5($in);", "PUT", "",
       "Content-Type: a/b\r\n", numbered(3'000'000)},
      {"unread", "<?php echo 'not read';", "POST", "", "Content-Type: a/b\r\n", std::string(300000, 'k')},
      {"unread-papers", "<?php echo 'not read';", "PUT", "", "Content-Type: a/b\r\n", numbered(3'000'000)},
      {"upload", "<?php $f = $_FILES['paper']; echo $f['name'], $f['size'], $f['error'], md5_file($f['tmp_name']);",
       "POST", "", "Content-Type: multipart/form-data; boundary=xx\r\n",
       "--xx\r\nContent-Disposition: form-data; name=\"paper\"; filename=\"a.txt\"\r\n\r\n" + std::string(100000, 'p') +
           "\r\n--xx--\r\n"},
      {"large", "<?php for ($i = 0; $i < 20000; ++$i) echo \"07:40 Skerry Head to Morrow Bay, crossing $i\\n\";"},
      {"one-piece", "<?php echo implode(\"\\n\", range(1, 150000));"},
      {"binary",
       "<?php header('Content-Type: application/octet-stream'); for ($i = 0; $i < 1024; ++$i) echo chr($i & 255);"},
      {"length", "<?php header('Content-Length: 5'); echo 'abcde';"},
      {"server",
       "<?php foreach (['FCGI_ROLE', 'PHP_FCGI_MAX_REQUESTS', 'REQUEST_TIME', 'REQUEST_TIME_FLOAT', 'REMOTE_PORT', "
       "'SERVER_PORT', 'HTTP_HOST'] as $n)"
       " unset($_SERVER[$n]); ksort($_SERVER); foreach ($_SERVER as $n => $v) echo \"$n=$v\\n\"; echo getenv('PATH'), "
       "getenv('GULL');",
       "GET", "?a=b", "X-Gull: grey\r\nAccept-Language: en\r\n"},
      {"ini",
       "<?php echo ini_get('memory_limit'), ini_get('user_agent'), ini_get('display_errors'), "
       "ini_get('max_execution_time');"},
      {"set",
       "<?php echo ini_get('precision'), '|'; ini_set('precision', 3); echo 1 / 3, isset($GLOBALS['left']) ? 'old' : "
       "'new'; $left = 1; define('TIDE', 1);"},
      {"session",
       "<?php session_id('gull1'); session_start(); $_SESSION['n'] = ($_SESSION['n'] ?? 0) + 1; echo $_SESSION['n'] > "
       "0;"},
      {"request", "<?php echo $_SERVER['REQUEST_METHOD'], $_SERVER['REQUEST_URI'], $_SERVER['QUERY_STRING'];", "DELETE",
       "?x=%20y"},
      {"head", "<?php header('X-Seen: yes'); echo 'not sent';", "HEAD"},
      {"notice", "<?php echo $no_such_variable; echo 'goes on';"},
      {"stderr", "<?php error_log('the pier is closed'); echo 'open';"},
      {"argv", "<?php echo json_encode($_SERVER['argv'] ?? null);", "GET", "?one+two"},
  };
  for (const Page& page : all) folder.write(pages + page.name + ".php", page.source);
  TwoWays two(folder, "[interpreter.PHP]\nsettings = { \"session.save_path\" = \"" + folder.path() +
                          "/sessions\", user_agent = \"gulls; 'grey' ${HOME}\" }\nenvironment = { GULL = \"sound\" }\n"
                          "[site.kept.environment]\nSAME = \"1\"\n[site.fresh.environment]\nSAME = \"1\"\n");
  // Twice, so that what one run leaves behind would show in the next.
  for (int round = 0; round < 2; ++round)
    for (const Page& page : all) {
      CAPTURE(page.name, round);
      const auto ask = [&](std::uint16_t port) {
        return text_of(request(port, page.method, "/" + page.name + ".php" + page.query, page.fields, page.body),
                       page.name == "length");
      };
      const std::string kept = ask(two.port());
      CHECK(kept == ask(two.fresh_port()));
      if (page.method == "GET")
        CHECK(kept == text_of(ask_again(two.port(), "GET /" + page.name + ".php" + page.query +
                                                        " HTTP/1.1\r\nHost: localhost\r\n" + page.fields + "\r\n"),
                              page.name == "length"));
      CHECK(kept.starts_with(page.name == "status"     ? "404"
                             : page.name == "reason"   ? "418"
                             : page.name == "location" ? "302"
                                                       : "200"));
    }
  CHECK(two.server().stop() == 0);
}

TEST_CASE("what a script prints past PHP's own output is in its page, and in no other") {
  const bool is_persistent = GENERATE(true, false);
  CAPTURE(is_persistent);
  TempFolder folder;
  folder.write(
      "pages/prints.php",
      "<?php header('Content-Type: text/plain'); echo 'high '; while (ob_get_level() > 0) ob_end_flush(); flush(); "
      "file_put_contents('php://stdout', 'water'); fclose(fopen('php://stdout', 'w'));");
  folder.write("pages/tide.php", "<?php echo '07:40';");
  SettledServer server(folder, is_persistent ? persistent_site()
                                             : "addresses = [PORT]\n[site.quay]\ndocument-root = \"pages\"\n"
                                               "[interpreter.PHP]\npersistent = false\n");
  for (int i = 0; i < 3; ++i) {
    CHECK(get(server.port(), "/prints.php").body == "high water");
    CHECK(get(server.port(), "/tide.php").body == "07:40");
  }
  CHECK(server.stop() == 0);
}

TEST_CASE("a script that fails is told of in the same words, whichever way it was run") {
  TempFolder folder;
  struct Row {
    std::string name;
    std::string source;
    std::string code;
  };
  const std::vector<Row> rows = {
      {"parse", "<?php\n\nfunction (\n", "script-error"},
      {"fatal", "<?php\nno_such_function();\n", "script-error"},
      {"thrown", "<?php\nthrow new RuntimeException('no tide');\n", "script-error"},
      {"part", "<?php echo 'first';\nno_such_function();\n", "script-error"},
      {"flushed", "<?php echo 'first'; flush();\nno_such_function();\n", "script-error"},
      {"memory", "<?php\n$x = str_repeat('k', 1 << 30);\n", "php-memory-limit"},
      {"time", "<?php\nset_time_limit(1);\nfor (;;);\n", "script-error"},
      {"signal", "<?php\nposix_kill(getmypid(), 11); sleep(5);\n", "script-killed"},
      {"slow", "<?php\nsleep(60);\n", "script-too-slow"},
      {"loop", "<?php\nset_time_limit(0);\nfor (;;);\n", "out-of-processor-time"},
      {"missing", "<?php\nrequire 'no-such-file.php';\n", "script-error"},
      {"shutdown", "<?php\nregister_shutdown_function(function () { no_such_function(); });\n", "script-error"},
      {"short", "<?php header('Content-Length: 9'); echo 'abc';", "body-shorter-than-announced"},
      {"head", "<?php header('X-A: ' . str_repeat('k', 100000)); echo 'x';", "response-head-too-large"},
  };
  TempFolder of_slow;
  for (const Row& row : rows) (row.name == "slow" ? of_slow : folder).write("pages/" + row.name + ".php", row.source);
  folder.write("pages/fine.php", kPid);
  // Each limit is met by one row, and far out of the way of all others.
  TwoWays usual(folder, "[limits]\nfirst-byte = 600\nprocessor-time = 2\n");
  TwoWays hurried(of_slow, "[limits]\nfirst-byte = 3\nprocessor-time = 600\n");
  for (const Row& row : rows) {
    CAPTURE(row.name);
    TwoWays& two = row.name == "slow" ? hurried : usual;
    const Response kept = get(two.port(), "/" + row.name + ".php");
    const Response fresh = get(two.fresh_port(), "/" + row.name + ".php");
    CHECK(code_in(kept) == row.code);
    CHECK(kept.status == fresh.status);
    // Where the server's port stands, and times of the interpreter's own.
    CHECK(code_in(fresh) == row.code);
    const auto said = [](const Response& response) {
      return response.body.substr(0, response.body.find("Asked for:"));
    };
    CHECK(said(kept) == said(fresh));
    if (row.name != "slow")
      CHECK(said(kept) == said(ask_again(two.port(), "GET /" + row.name + ".php HTTP/1.1\r\nHost: localhost\r\n\r\n")));
    CHECK(get(usual.port(), "/fine.php").status == 200);
  }
  CHECK(usual.server().stop() == 0);
  CHECK(hurried.server().stop() == 0);
}

TEST_CASE("an edit is seen by the next request, of whatever the page is made of") {
  TempFolder folder;
  folder.write("pages/a.php", "<?php echo include 'b.inc', ini_get('precision'), getenv('X');");
  folder.write("pages/b.inc", "<?php return 'one';");
  folder.write("ini/tide.ini", "precision = 5\n");
  folder.write("one/c.inc", "<?php return 1;");
  folder.write("two/c.inc", "<?php return 2;");
  folder.write("pages/linked.php", "<?php echo include __DIR__ . '/current/c.inc';");
  std::filesystem::create_directory_symlink(folder.path() + "/one", folder.path() + "/pages/current");
  SettledServer server(folder,
                       persistent_site("environment = { PHP_INI_SCAN_DIR = \":" + folder.path() + "/ini\" }\n"));
  const auto page = [&] { return get(server.port(), "/a.php").body; };
  CHECK(page() == "one5");
  // Old enough to be taken for granted by whatever remembers what it has compiled.
  pause_ms(3100);
  CHECK(page() == "one5");
  CHECK(page() == "one5");
  CHECK(get(server.port(), "/linked.php").body == "1");
  folder.write("pages/b.inc", "<?php return 'two';");
  CHECK(page() == "two5");
  folder.write("pages/.user.ini", "precision = 7\n");
  CHECK(page() == "two7");
  folder.write("pages/.user.ini", "precision = 8\n");
  CHECK(page() == "two8");
  std::filesystem::remove(folder.path() + "/pages/.user.ini");
  CHECK(page() == "two5");
  folder.write("ini/tide.ini", "precision = 6\n");
  CHECK(page() == "two6");
  folder.write("ini/more.ini", "precision = 9\n");
  CHECK(get(server.port(), "/a.php").body.starts_with("two"));
  CHECK(page() != "two5");
  std::filesystem::remove(folder.path() + "/pages/current");
  std::filesystem::create_directory_symlink(folder.path() + "/two", folder.path() + "/pages/current");
  CHECK(get(server.port(), "/linked.php").body == "2");
  CHECK(server.stop() == 0);
}

TEST_CASE("what PHP was started from is seen by the next request, however many wait for a process") {
  TempFolder folder;
  folder.write("pages/a.php", "<?php echo ini_get('precision');");
  folder.write("ini/tide.ini", "precision = 5\n");
  SettledServer server(
      folder, persistent_site("processes = 1\nenvironment = { PHP_INI_SCAN_DIR = \":" + folder.path() + "/ini\" }\n"));
  CHECK(get(server.port(), "/a.php").body == "5");
  // What it reads at its start is asked of it then.
  pause_ms(500);
  Program load({"wrk", "-t1", "-c8", "-d4s", "http://localhost:" + std::to_string(server.port()) + "/a.php"});
  Connection connection(server.port());
  for (int precision = 6; precision < 16; ++precision) {
    folder.write("ini/tide.ini", "precision = " + std::to_string(precision) + "\n");
    connection.send("GET /a.php HTTP/1.1\r\nHost: localhost\r\n\r\n");
    CHECK(connection.receive().body == std::to_string(precision));
    pause_ms(200);
  }
  const std::string result = load.output();
  CAPTURE(result);
  CHECK(!has(result, "Non-2xx"));
  CHECK(!has(result, "Socket errors"));
  CHECK(server.stop() == 0);
}

TEST_CASE("processes are begun when they are needed, replaced after their runs, and ended when they are not") {
  TempFolder folder;
  folder.write("pages/pid.php", kPid);
  folder.write("pages/wait.php", "<?php usleep(300000); echo getmypid();");
  folder.write("pages/stream.php",
               "<?php for ($i = 0; $i < 60; ++$i) { echo getmypid(), \"\\n\"; flush(); usleep(100000); }");
  SettledServer server(folder, persistent_site("processes = 2\nruns-each = 5\nidle-time = 1\n"));
  const auto children = [&] { return children_of(server.program().id()).size(); };
  const auto pid = [&] { return get(server.port(), "/pid.php").body; };
  // The one that was asked for its version has ended.
  CHECK(eventually([&] { return children() == 0; }));
  std::vector<std::string> pids;
  for (int i = 0; i < 12; ++i) pids.push_back(pid());
  // One after the other they need one process, which has five runs.
  CHECK(std::set<std::string>(pids.begin(), pids.end()).size() == 3);
  CHECK(pids[0] == pids[4]);
  CHECK(pids[4] != pids[5]);
  CHECK(pids[5] == pids[9]);
  // Six at once share two.
  std::vector<std::thread> clients;
  std::vector<std::string> bodies(6);
  for (std::string& body : bodies)
    clients.emplace_back([&server, &body] { body = get(server.port(), "/wait.php").body; });
  for (std::thread& client : clients) client.join();
  CHECK(std::count(bodies.begin(), bodies.end(), "") == 0);
  CHECK(std::set<std::string>(bodies.begin(), bodies.end()).size() <= 4);
  // Those that only stream leave their places to others.
  std::vector<std::unique_ptr<Connection>> streams;
  for (int i = 0; i < 3; ++i) {
    streams.push_back(std::make_unique<Connection>(server.port()));
    streams.back()->send("GET /stream.php HTTP/1.1\r\nHost: localhost\r\n\r\n");
  }
  pause_ms(1500);
  CHECK(get(server.port(), "/pid.php").status == 200);
  streams.clear();
  CHECK(eventually([&] { return children() == 0; }));
  CHECK(!pid().empty());
  CHECK(server.stop() == 0);
}

TEST_CASE("a client that leaves, and a server that stops or is killed, leave no process") {
  TempFolder folder;
  folder.write("pages/pid.php", kPid);
  folder.write("pages/long.php", "<?php ignore_user_abort(true); touch('" + folder.path() +
                                     "/begun'); sleep(30); touch('" + folder.path() + "/over');");
  folder.write("pages/child.php", "<?php exec('sleep 77.25 >/dev/null 2>&1 &'); echo 'ok';");
  SettledServer server(folder, persistent_site("processes = 1\n"));
  {
    Connection leaving(server.port());
    leaving.send("GET /long.php HTTP/1.1\r\nHost: localhost\r\n\r\n");
    CHECK(eventually([&] { return std::filesystem::exists(folder.path() + "/begun"); }));
  }
  // The one process is free again long before the script would have ended.
  CHECK(get(server.port(), "/pid.php").status == 200);
  CHECK(get(server.port(), "/child.php").body == "ok");
  CHECK(eventually([] { return processes_with(sleeper("77.25")).empty(); }));
  const pid_t php = std::stoi(get(server.port(), "/pid.php").body);
  SECTION("stopped") { CHECK(server.stop() == 0); }
  SECTION("killed") { server.program().signal(SIGKILL); }
  CHECK(eventually([&] { return ::kill(php, 0) != 0 && processes_with(sleeper("77.25")).empty(); }));
  CHECK(!std::filesystem::exists(folder.path() + "/over"));
}

TEST_CASE("whatever becomes of a process between two requests, the next one is answered") {
  TempFolder folder;
  folder.write("pages/pid.php", kPid);
  SettledServer server(folder, persistent_site());
  for (int i = 0; i < 20; ++i) {
    const std::string pid = get(server.port(), "/pid.php").body;
    REQUIRE(!pid.empty());
    ::kill(std::stoi(pid), i % 2 == 0 ? SIGKILL : SIGTERM);
    if (i % 4 > 1) pause_ms(20);
    // One that is just being killed may still have taken the request; then that is said, and nothing else.
    const Response next = get(server.port(), "/pid.php");
    CHECK((next.status == 200 || code_in(next) == "script-killed" || code_in(next) == "wrote-nothing" ||
           code_in(next) == "fastcgi-closed"));
    CHECK(get(server.port(), "/pid.php").status == 200);
  }
  CHECK(server.stop() == 0);
}

TEST_CASE("ten thousand requests while processes are killed at random: no wrong page, and nothing is lost") {
  TempFolder folder;
  folder.write("pages/echo.php", "<?php echo getmypid(), ' ', $_GET['n'], ' ', str_repeat($_GET['n'], 50);");
  SettledServer server(folder, persistent_site("processes = 3\nruns-each = 400\n"));
  REQUIRE(get(server.port(), "/echo.php?n=1").status == 200);
  const std::size_t descriptors = open_descriptors(server.program().id());
  std::atomic<int> asked{0};
  std::atomic<int> wrong{0};
  std::atomic<int> failed{0};
  std::atomic<bool> is_over{false};
  const auto client = [&](int number) {
    Connection connection(server.port());
    while (asked++ < 10000) {
      const std::string n = std::to_string(number) + "." + std::to_string(asked.load());
      connection.send("GET /echo.php?n=" + n + " HTTP/1.1\r\nHost: localhost\r\n\r\n");
      const Response response = connection.receive();
      std::string expected = " " + n + " ";
      for (int i = 0; i < 50; ++i) expected += n;
      if (response.status >= 500) {
        ++failed;
      } else if (response.status != 200 || !response.body.ends_with(expected)) {
        ++wrong;
      }
    }
  };
  std::thread killer([&] {
    for (unsigned i = 1; !is_over; ++i) {
      const auto all = children_of(server.program().id());
      if (!all.empty()) ::kill(all[i * 7 % all.size()], SIGKILL);
      pause_ms(static_cast<int>(20 + i * 13 % 40));
    }
  });
  std::vector<std::thread> clients;
  for (int i = 0; i < 6; ++i) clients.emplace_back(client, i);
  for (std::thread& one : clients) one.join();
  is_over = true;
  killer.join();
  CHECK(wrong == 0);
  // Only requests that a killed process had in hand.
  CHECK(failed < 2000);
  CHECK(get(server.port(), "/echo.php?n=1").status == 200);
  CHECK(eventually([&] { return open_descriptors(server.program().id()) <= descriptors + 12; }));
  CHECK(eventually([&] { return children_of(server.program().id()).size() <= 3; }));
  CHECK(server.stop() == 0);
}

TEST_CASE("however many wait, a process does as many runs as the settings say") {
  TempFolder folder;
  folder.write("pages/pid.php", "<?php echo getmypid();");
  SettledServer server(folder, persistent_site("processes = 2\nruns-each = 1000\n"));
  constexpr std::size_t kClients = 8;
  std::vector<std::vector<std::string>> answers(kClients);
  std::vector<std::thread> clients;
  for (auto& own : answers)
    clients.emplace_back([&] {
      Connection connection(server.port());
      for (int i = 0; i < 300; ++i) {
        connection.send("GET /pid.php HTTP/1.1\r\nHost: localhost\r\n\r\n");
        own.push_back(connection.receive().body);
      }
    });
  for (std::thread& client : clients) client.join();
  std::map<std::string, int> runs;
  for (const auto& own : answers)
    for (const std::string& pid : own) ++runs[pid];
  for (const auto& [pid, count] : runs) {
    CAPTURE(pid);
    CHECK(std::stoi(pid) > 0);
    CHECK(count <= 1000);
  }
  CHECK(runs.size() >= 3);
  CHECK(server.stop() == 0);
}

TEST_CASE("a process that the settings give no number of runs lasts for thousands") {
  TempFolder folder;
  folder.write("pages/pid.php", kPid);
  SettledServer server(folder, persistent_site("processes = 1\n"));
  Connection connection(server.port());
  const auto pid = [&] {
    connection.send("GET /pid.php HTTP/1.1\r\nHost: localhost\r\n\r\n");
    return connection.receive().body;
  };
  const std::string first = pid();
  std::set<std::string> pids;
  for (int i = 0; i < 2000; ++i) pids.insert(pid());
  CHECK(pids == std::set<std::string>{first});
  CHECK(server.stop() == 0);
}

TEST_CASE("connections on every thread share the only process, and each is counted once") {
  TempFolder folder;
  folder.write("pages/say.php", "<?php echo $_GET['n'] ?? strlen(file_get_contents('php://input'));");
  folder.write("pages/note.txt", "Fog until noon.");
  SettledServer server(folder, persistent_site("processes = 1\n[limits]\nconnections = 8\n"), {"--threads", "4"});
  const std::string host = " HTTP/1.1\r\nHost: localhost\r\n";
  const std::string note = "GET /note.txt" + host + "\r\n";
  const auto page = [&](const std::string& n) { return "GET /say.php?n=" + n + host + "\r\n"; };
  for (int round = 0; round < 3; ++round) {
    CAPTURE(round);
    std::vector<std::unique_ptr<Connection>> all;
    for (int i = 0; i < 8; ++i) all.push_back(std::make_unique<Connection>(server.port()));
    for (std::size_t i = 0; i < all.size(); ++i) {
      const std::string n = std::to_string(i);
      CAPTURE(n);
      Connection& one = *all[i];
      one.send(page(n));
      CHECK(one.receive().body == n);
      one.send(note + page(n + "1") + note + page(n + "2"));
      for (const std::string& expected :
           {std::string("Fog until noon."), n + "1", std::string("Fog until noon."), n + "2"})
        CHECK(one.receive().body == expected);
      one.send("POST /say.php" + host + "Content-Length: 70000\r\n\r\n" + std::string(70000, 'k'));
      CHECK(one.receive().body == "70000");
    }
    CHECK(Connection(server.port()).receive().status == 503);
    all.clear();
    // Those that have left are counted no more once that was seen.
    CHECK(eventually([&] { return get(server.port(), "/note.txt").status == 200; }));
    pause_ms(300);
  }
  CHECK(server.stop() == 0);
}

TEST_CASE("who waits while a run lasts is answered by another process, and nothing is run for nobody") {
  TempFolder folder;
  folder.write("pages/wait.php", "<?php touch('" + folder.path() +
                                     "/begun-' . $_GET['n']); usleep(1000 * (int) $_GET['ms']); "
                                     "echo getmypid(), ' ', $_GET['n'];");
  SettledServer server(folder, persistent_site("processes = 2\n"));
  std::vector<std::unique_ptr<Connection>> connections;
  const auto ask = [&](std::size_t which, const std::string& query) {
    connections[which]->send("GET /wait.php?" + query + " HTTP/1.1\r\nHost: localhost\r\n\r\n");
  };
  for (std::size_t i = 0; i < 8; ++i) {
    connections.push_back(std::make_unique<Connection>(server.port()));
    for (int n = 0; n < 12; ++n) {
      ask(i, "ms=0&n=");
      REQUIRE(connections[i]->receive().status == 200);
    }
  }
  constexpr std::chrono::milliseconds kLongest{2500};
  const auto begun = std::chrono::steady_clock::now();
  ask(0, "ms=3000&n=slow");
  ask(1, "ms=400&n=less");
  const auto has_begun = [&](const char* n) { return std::filesystem::exists(folder.path() + "/begun-" + n); };
  // Both processes are at work.
  while ((!has_begun("slow") || !has_begun("less")) && std::chrono::steady_clock::now() < begun + kLongest)
    std::this_thread::yield();
  for (std::size_t i = 2; i < 7; ++i) ask(i, "ms=0&n=" + std::to_string(i));
  // One leaves before its turn has come.
  ask(7, "ms=0&n=left");
  connections.pop_back();
  std::vector<std::string> pids;
  for (std::size_t i = 1; i < 7; ++i) {
    const Response response = connections[i]->receive();
    CHECK(response.status == 200);
    CHECK(response.body.ends_with(i == 1 ? " less" : " " + std::to_string(i)));
    pids.push_back(response.body.substr(0, response.body.find(' ')));
  }
  CHECK(std::chrono::steady_clock::now() < begun + kLongest);
  const Response slow = connections[0]->receive();
  CHECK(slow.body.ends_with(" slow"));
  CHECK(std::set<std::string>(pids.begin(), pids.end()).size() == 1);
  CHECK(!slow.body.starts_with(pids[0]));
  CHECK(has_begun("2"));
  CHECK(!has_begun("left"));
  CHECK(server.stop() == 0);
}

TEST_CASE("a script is told the port that its own request has come from, however well that is known") {
  TempFolder folder;
  folder.write("pages/port.php", "<?php echo $_SERVER['REMOTE_PORT'], ' ', strlen($_SERVER['REMOTE_PORT']);");
  SettledServer server(folder, persistent_site("processes = 1\n"));
  const auto connect_from_four_digits = [&] {
    for (std::uint16_t from = 9000;; ++from) try {
        return std::make_unique<Connection>(server.port(), "127.0.0.1", from);
      } catch (const std::runtime_error&) {
        if (from == 9999) throw;
      }
  };
  for (int round = 0; round < 2; ++round)
    for (const bool is_short : {false, true, false}) {
      const auto connection = is_short ? connect_from_four_digits() : std::make_unique<Connection>(server.port());
      sockaddr_in own{};
      socklen_t size = sizeof own;
      ::getsockname(connection->socket(), reinterpret_cast<sockaddr*>(&own), &size);
      const std::string port = std::to_string(ntohs(own.sin_port));
      // From the second on, each is known.
      for (int i = 0; i < 3; ++i) {
        connection->send("GET /port.php HTTP/1.1\r\nHost: localhost\r\n\r\n");
        CHECK(connection->receive().body == port + " " + std::to_string(port.size()));
      }
    }
  CHECK(server.stop() == 0);
}

TEST_CASE("whatever runs before and beside it, a request has its own response") {
  TempFolder folder;
  folder.write("pages/mixed.php", R"(<?php
    if ($_GET['do'] == 'wait') usleep(30000);
    if ($_GET['do'] == 'crash') { posix_kill(getmypid(), SIGSEGV); sleep(1); }
    if ($_GET['do'] == 'aside') error_log('aside');
    echo $_GET['n'];
    if ($_GET['do'] == 'large') echo str_repeat('.', 200000);)");
  SettledServer server(folder, persistent_site("processes = 3\nruns-each = 150\n"));
  // Most of them are short, and much of what is not comes behind many that were.
  const auto kind_of = [](unsigned random) {
    return random % 50 == 0   ? "crash"
           : random % 16 == 0 ? "wait"
           : random % 17 == 0 ? "large"
           : random % 19 == 0 ? "aside"
           : random % 13 == 0 ? "leave"
                              : "";
  };
  std::atomic<int> wrong{0};
  const auto client = [&](unsigned number) {
    auto connection = std::make_unique<Connection>(server.port());
    for (unsigned i = 0, random = number; i < 200; ++i) {
      random = random * 1103515245 + 12345;
      const std::string kind = kind_of(random >> 16);
      const std::string n = std::to_string(number) + "." + std::to_string(i);
      connection->send("GET /mixed.php?n=" + n + "&do=" + kind + " HTTP/1.1\r\nHost: localhost\r\n\r\n");
      if (kind == "leave") {
        connection = std::make_unique<Connection>(server.port());
        continue;
      }
      const Response response = connection->receive();
      const std::string expected = kind == "large" ? n + std::string(200000, '.') : n;
      wrong +=
          kind == "crash" ? code_in(response) != "script-killed" : response.status != 200 || response.body != expected;
    }
  };
  std::vector<std::thread> clients;
  for (unsigned i = 0; i < 12; ++i) clients.emplace_back(client, i);
  for (std::thread& one : clients) one.join();
  CHECK(wrong == 0);
  CHECK(server.stop() == 0);
}

TEST_CASE("reloads that replace the processes lose no request") {
  TempFolder folder;
  folder.write("pages/a.php", "<?php echo ini_get('precision');");
  const std::string port = std::to_string(free_port());
  const auto settings = [&](int precision) {
    return "addresses = [" + port +
           "]\n[site.kept]\ndocument-root = \"pages\"\nhosts = [\"localhost\"]\n"
           "[site.kept.interpreter.PHP]\nprocesses = 2\nsettings = { precision = " +
           std::to_string(precision) + " }\n";
  };
  const std::string file = folder.write("uporter.toml", settings(5));
  Program server({built("uporterd"), "--settings", file}, SettledServer::environment(folder));
  REQUIRE(has(server.read_until("Stop "), "Stop "));
  Program load({"wrk", "-t1", "-c8", "-d5s", "http://localhost:" + port + "/a.php"});
  for (int i = 0; i < 8; ++i) {
    folder.write("uporter.toml", settings(6 + i));
    // Seen within a moment, as for any other settings.
    CHECK(eventually(
        [&] { return get(static_cast<std::uint16_t>(std::stoi(port)), "/a.php").body == std::to_string(6 + i); }));
    pause_ms(200);
  }
  const std::string result = load.output();
  CAPTURE(result);
  CHECK(!has(result, "Non-2xx"));
  CHECK(!has(result, "Socket errors"));
  CHECK(eventually([&] { return children_of(server.id()).size() <= 2; }));
  server.signal(SIGTERM);
  CHECK(server.wait() == 0);
}

TEST_CASE("what does not speak FastCGI cannot be persistent, and that is said") {
  TempFolder folder;
  folder.write("pages/a.tide", "07:40");
  folder.write("pages/c.gone", "07:40");
  folder.write("programs/ends", "#!/bin/sh\necho 'no tide table' >&2\nexit 3\n", 0755);
  folder.write("programs/gone", "#!/no/such/program\n", 0755);
  const auto language = [](const std::string& name, const std::string& ending, const std::string& program) {
    return "[interpreter." + name + "]\nendings = [\"" + ending + "\"]\ncommand = \"programs/" + program +
           "\"\npersistent = true\nanywhere = true\n";
  };
  SettledServer server(folder, persistent_site() + language("Tide", ".tide", "ends") +
                                   language("Gone", ".gone", "gone") + "[limits]\nfirst-byte = 600\n");
  TempFolder of_slow;
  of_slow.write("pages/b.rip", "07:40");
  of_slow.write("programs/waits", "#!/bin/sh\nsleep 60\n", 0755);
  SettledServer hurried(of_slow, persistent_site() + language("Rip", ".rip", "waits") + "[limits]\nfirst-byte = 1\n");
  CHECK(code_in(get(hurried.port(), "/b.rip")) == "script-too-slow");
  CHECK(eventually([&] { return children_of(hurried.program().id()).empty(); }));
  CHECK(hurried.stop() == 0);
  const Response ends = get(server.port(), "/a.tide");
  CHECK(code_in(ends) == "persistent-not-answering");
  CHECK(has(ends.body, "exit status 3"));
  CHECK(has(ends.body, "no tide table"));
  CHECK(code_in(get(server.port(), "/c.gone")) == "interpreter-not-found");
  CHECK(eventually([&] { return children_of(server.program().id()).empty(); }));
  CHECK(server.stop() == 0);
}
