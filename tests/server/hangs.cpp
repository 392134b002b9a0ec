// What must not hang or spin, whoever wants it to: heads, scripts, compression, readers that do not read, memory.
#include <fcntl.h>
#include <poll.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <catch2/catch.hpp>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;
using Clock = std::chrono::steady_clock;

namespace {

/// Processor time of the process so far, in milliseconds.
long processor_ms(pid_t process) {
  std::ifstream file("/proc/" + std::to_string(process) + "/stat");
  std::string text;
  std::getline(file, text);
  std::istringstream rest(text.substr(text.rfind(')') + 2));
  std::string word;
  long user = 0;
  long system = 0;
  for (int i = 0; i < 11; ++i) rest >> word;
  rest >> user >> system;
  return (user + system) * 1000 / ::sysconf(_SC_CLK_TCK);
}

bool is_alive(pid_t process) {
  std::ifstream file("/proc/" + std::to_string(process) + "/stat");
  std::string text;
  std::getline(file, text);
  return !text.empty() && text[text.rfind(')') + 2] != 'Z';
}

pid_t number_in(const std::string& path) {
  pid_t id = 0;
  std::ifstream(path) >> id;
  return id;
}

/// True if small files keep coming while the request for `target` is answered: one that held its thread for good would
/// make them wait for as long as it takes itself.
bool holds_nobody_up(std::uint16_t port, const std::string& target, const std::string& more = "") {
  std::atomic<bool> is_over{false};
  std::chrono::nanoseconds took{0};
  std::thread worker([&] {
    const auto begun = Clock::now();
    get(port, target, more);
    took = Clock::now() - begun;
    is_over = true;
  });
  std::chrono::nanoseconds longest{0};
  Connection connection(port);
  while (!is_over) {
    const auto begun = Clock::now();
    connection.send("GET /small.txt HTTP/1.1\r\nHost: localhost\r\n\r\n");
    if (connection.receive().status != 200) break;
    longest = std::max<std::chrono::nanoseconds>(longest, Clock::now() - begun);
    pause_ms(1);
  }
  worker.join();
  CAPTURE(target, took.count(), longest.count());
  const bool is_fine = longest < std::chrono::milliseconds(500) || longest < took / 3;
  CHECK(is_fine);
  return is_fine;
}

}  // namespace

TEST_CASE("a head larger than any buffer is refused, and one that a larger limit allows is read") {
  TempFolder folder;
  folder.write("a.txt", "fine");
  for (const std::size_t limit : {std::size_t{65536}, std::size_t{200000}, std::size_t{1000000}}) {
    Server server(folder.path(),
                  {"--threads", "1", "--limit", "head=" + std::to_string(limit), "--limit", "fields=10000"});
    const auto ask = [&](std::size_t size) {
      Connection connection(server.port());
      std::string head = "GET /a.txt HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n";
      while (head.size() + 1100 < size) head += "X-Tide: " + std::string(1000, 'h') + "\r\n";
      head += "X-Last: " + std::string(size - head.size() - 12, 'l') + "\r\n\r\n";
      connection.send(head);
      return connection.receive().status;
    };
    CAPTURE(limit);
    CHECK(ask(limit - 10) == 200);
    CHECK(ask(limit + 2000) == 431);
    {
      Connection silent(server.port());
      silent.send("GET /a.txt HTTP/1.1\r\nX: " + std::string(limit + 100, 'x'));
    }
    const long before = processor_ms(server.program().id());
    pause_ms(400);
    CHECK(processor_ms(server.program().id()) - before < 200);
    CHECK(get(server.port(), "/a.txt").body == "fine");
    CHECK(server.stop() == 0);
  }
}

TEST_CASE("a script is ended with all its kin, wherever they have gone") {
  struct Row {
    const char* name;
    const char* source;
  };
  // Each writes the number of the process that gets away.
  const auto row = GENERATE(values<Row>({
      {"another group",
       "#!/usr/bin/perl\nsetpgrp(0, getppid()) or 1; open F, '>', 'id'; print F $$; close F; $SIG{TERM}='IGNORE'; "
       "sleep 300;"},
      {"a session of its own", "#!/bin/sh\nsetsid sh -c 'echo $$ > id; exec sleep 300' &\nsleep 300\n"},
      {"an orphan", "#!/bin/sh\n(setsid sh -c 'echo $$ > id; trap \"\" TERM; sleep 300; sleep 300' &)\nsleep 300\n"},
      {"an orphan without environment",
       "#!/bin/sh\n(setsid env -i sh -c 'echo $$ > id; exec sleep 300' &)\nsleep 300\n"},
      {"an orphan that remains",
       "#!/bin/sh\n(setsid sh -c 'echo $$ > id; exec sleep 300' >/dev/null 2>&1 &)\nwhile [ ! -s "
       "id ]; do sleep 0.01; done\nprintf 'Content-Type: text/plain\\n\\nbye'\n"},
  }));
  CAPTURE(row.name);
  TempFolder folder;
  folder.write("a.txt", "x");
  folder.write("cgi-bin/away", row.source, 0755);
  const std::string mark = folder.path() + "/cgi-bin/id";
  SECTION("by its limit") {
    Server server(folder.path(), {"--limit", "first-byte=1"});
    get(server.port(), "/cgi-bin/away");
    REQUIRE(eventually([&] { return number_in(mark) > 0; }));
    CHECK(eventually([&] { return !is_alive(number_in(mark)); }));
    CHECK(eventually([&] { return children_of(server.program().id()).empty(); }));
    CHECK(server.stop() == 0);
  }
  SECTION("by the server's stop") {
    Server server(folder.path(), {"--limit", "stop-time=1"});
    Connection connection(server.port());
    connection.send("GET /cgi-bin/away HTTP/1.1\r\nHost: localhost\r\n\r\n");
    REQUIRE(eventually([&] { return number_in(mark) > 0; }));
    const auto begun = Clock::now();
    CHECK(server.stop() == 0);
    CHECK(Clock::now() - begun < std::chrono::seconds(60));
    CHECK_FALSE(is_alive(number_in(mark)));
  }
  SECTION("by the warden, also by a second one") {
    Server server(folder.path());
    const pid_t id = server.program().id();
    const auto wardens = processes_with(folder.path());
    for (const pid_t process : wardens)
      if (process != id) ::kill(process, SIGKILL);
    REQUIRE(eventually([&] {
      const auto now = processes_with(folder.path());
      return std::any_of(now.begin(), now.end(), [&](pid_t process) {
        return process != id && std::find(wardens.begin(), wardens.end(), process) == wardens.end();
      });
    }));
    Connection connection(server.port());
    connection.send("GET /cgi-bin/away HTTP/1.1\r\nHost: localhost\r\n\r\n");
    REQUIRE(eventually([&] { return number_in(mark) > 0; }));
    server.program().signal(SIGKILL);
    CHECK(eventually([&] { return !is_alive(number_in(mark)); }));
  }
}

TEST_CASE("compressing, sending, and looking for near names hold nobody up") {
  TempFolder folder;
  folder.write("small.txt", "s");
  {
    std::ofstream large(folder.path() + "/large.css", std::ios::binary);
    for (long i = 0; i < 400000; ++i) large << "/* tide " << i * 7919 << " */ .gull { color: #" << i << "; }\n";
  }
  folder.write("large.bin", std::string(300'000'000, 'b'));
  for (int i = 0; i < 20000; ++i)
    folder.write("many/" + std::string(100, static_cast<char>('a' + i % 26)) + std::to_string(i), "");
  Server server(folder.path(), {"--threads", "1"});
  get(server.port(), "/small.txt");
  CHECK(holds_nobody_up(server.port(), "/large.css", "Accept-Encoding: gzip\r\n"));
  CHECK(holds_nobody_up(server.port(), "/large.bin"));
  CHECK(holds_nobody_up(server.port(), "/many/"));
  CHECK(holds_nobody_up(server.port(), "/many/" + std::string(90, 'q') + "x"));
  CHECK(server.stop() == 0);
}

TEST_CASE("what nobody reads does not keep the server from stopping") {
  TempFolder folder;
  folder.write("pages/a.txt", "x");
  const std::string pipe = folder.path() + "/pipe";
  REQUIRE(::mkfifo(pipe.c_str(), 0644) == 0);
  SECTION("standard output") {
    Program server(
        {"sh", "-c",
         "exec " + built("uporterd") + " --folder " + folder.path() + "/pages --port 0 --limit stop-time=1 > " + pipe});
    const int reader = ::open(pipe.c_str(), O_RDONLY | O_CLOEXEC);
    REQUIRE(reader >= 0);
    std::string text;
    std::array<char, 4096> buffer;
    while (!has(text, "Ctrl+C\n\n")) {
      const ssize_t got = ::read(reader, buffer.data(), buffer.size());
      REQUIRE(got > 0);
      text.append(buffer.data(), static_cast<std::size_t>(got));
    }
    const auto port = static_cast<std::uint16_t>(std::atoi(text.c_str() + text.find("localhost:") + 10));
    for (int i = 0; i < 3000; ++i) {
      Connection connection(port);
      for (int j = 0; j < 2; ++j) {
        connection.send("GET /a.txt?" + std::string(200, 'q') + " HTTP/1.1\r\nHost: localhost\r\n\r\n");
        REQUIRE(connection.receive().status == 200);
      }
      if (i * 2 * 300 > 400000) break;
    }
    server.signal(SIGTERM);
    const auto begun = Clock::now();
    CHECK(server.wait() == 0);
    CHECK(Clock::now() - begun < std::chrono::seconds(30));
    ::close(reader);
  }
  SECTION("an access log in a pipe") {
    const bool is_read = GENERATE(false, true);
    CAPTURE(is_read);
    const int reader = is_read ? ::open(pipe.c_str(), O_RDONLY | O_NONBLOCK | O_CLOEXEC) : -1;
    SettledServer server(folder, "addresses = PORT\n[site.a]\ndocument-root = \"pages\"\n[log]\naccess = \"pipe\"\n");
    Connection connection(server.port());
    for (int i = 0; i < 1500; ++i) {
      connection.send("GET /a.txt?" + std::string(100, 'q') + " HTTP/1.1\r\nHost: localhost\r\n\r\n");
      REQUIRE(connection.receive().status == 200);
    }
    const auto begun = Clock::now();
    CHECK(server.stop() == 0);
    CHECK(Clock::now() - begun < std::chrono::seconds(30));
    if (reader >= 0) ::close(reader);
  }
}

TEST_CASE("the time of a script begins when it has been given the body") {
  TempFolder folder;
  folder.write("cgi-bin/count", "#!/bin/sh\nn=$(wc -c)\nprintf \"Content-Type: text/plain\\n\\n$n\"\n", 0755);
  folder.write("cgi-bin/deaf", "#!/bin/sh\nsleep 300\n", 0755);
  Server server(folder.path(), {"--limit", "first-byte=3", "--limit", "body-pause=30"});
  Connection slow(server.port());
  slow.send("POST /cgi-bin/count HTTP/1.1\r\nHost: localhost\r\nContent-Length: 13\r\n\r\n");
  for (int i = 0; i < 13; ++i) {
    pause_ms(300);
    slow.send("t");
  }
  const Response response = slow.receive();
  CHECK(response.status == 200);
  CHECK(has(response.body, "13"));
  // One that does not take what it is given is still stopped in its time.
  Connection deaf(server.port());
  deaf.send("POST /cgi-bin/deaf HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1000000\r\n\r\n");
  deaf.send(std::string(1000000, 'd'));
  CHECK(deaf.receive().status == 504);
  CHECK(server.stop() == 0);
}

TEST_CASE("a script of a client that has left the queue is not started, and its place is free at once") {
  TempFolder folder;
  folder.write("cgi-bin/slow", "#!/bin/sh\nsleep 1.5\nprintf 'Content-Type: text/plain\\n\\nslow'\n", 0755);
  folder.write("cgi-bin/mark", "#!/bin/sh\necho x >> marks\nprintf 'Content-Type: text/plain\\n\\nmark'\n", 0755);
  Server server(folder.path(), {"--limit", "runs=1", "--limit", "queue=3"});
  const std::string mark = "GET /cgi-bin/mark HTTP/1.1\r\nHost: localhost\r\n\r\n";
  Connection first(server.port());
  first.send("GET /cgi-bin/slow HTTP/1.1\r\nHost: localhost\r\n\r\n");
  REQUIRE(eventually([&] { return !children_of(server.program().id()).empty(); }));
  {
    Connection leaving(server.port());
    leaving.send(mark);
    Connection last_request(server.port());
    last_request.send("GET /cgi-bin/mark HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n");
    Connection leaving_with_body(server.port());
    leaving_with_body.send("POST /cgi-bin/mark HTTP/1.1\r\nHost: localhost\r\nContent-Length: 5\r\n\r\nab");
    pause_ms(200);
  }
  // Their places are free again before the first script has ended.
  Connection staying(server.port());
  CHECK(eventually(
      [&] {
        Connection third(server.port());
        third.send(mark);
        pollfd ready{third.socket(), POLLIN, 0};
        return ::poll(&ready, 1, 50) == 0;  // Otherwise it is told at once that the queue is full.
      },
      std::chrono::seconds(1)));
  // One that has closed only its sending side still waits.
  staying.send("GET /cgi-bin/mark HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n");
  staying.finish_sending();
  CHECK(first.receive().body == "slow");
  CHECK(staying.receive().body == "mark");
  pause_ms(300);
  std::ifstream marks(folder.path() + "/cgi-bin/marks");
  std::string all((std::istreambuf_iterator<char>(marks)), {});
  CHECK(all == "x\n");
  CHECK(server.stop() == 0);
}

TEST_CASE("a lack of memory or descriptors fails the request, is told as what it is, and passes") {
  TempFolder folder;
  folder.write("a.txt", "fine");
  folder.write("b/index.html", "index");
  folder.write("big.html", std::string(60000, 'b'));
  folder.write("cgi-bin/x", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nran'\n", 0755);
  Server server(folder.path(), {"--threads", "1"});
  CHECK(get(server.port(), "/a.txt").body == "fine");
  const pid_t id = server.program().id();
  rlimit before{};
  REQUIRE(::prlimit(id, RLIMIT_NOFILE, nullptr, &before) == 0);
  Connection kept(server.port());
  kept.send("GET /a.txt HTTP/1.1\r\nHost: localhost\r\n\r\n");
  CHECK(kept.receive().status == 200);
  // As many as are open without a gap, so that there is none left.
  rlim_t first_free = 0;
  while (std::filesystem::exists(
      std::filesystem::symlink_status("/proc/" + std::to_string(id) + "/fd/" + std::to_string(first_free))))
    ++first_free;
  const rlimit tight{first_free, before.rlim_max};
  REQUIRE(::prlimit(id, RLIMIT_NOFILE, &tight, nullptr) == 0);
  for (const std::string target : {"/b/", "/big.html", "/cgi-bin/x", "/none"}) {
    kept.send("GET " + target + " HTTP/1.1\r\nHost: localhost\r\n\r\n");
    const Response response = kept.receive();
    CAPTURE(target, response.body);
    CHECK(response.status == 503);
    CHECK(has(response.body, "Too many open files"));
    CHECK_FALSE(has(response.body, "mkdir"));
  }
  REQUIRE(::prlimit(id, RLIMIT_NOFILE, &before, nullptr) == 0);
  CHECK(get(server.port(), "/b/").body == "index");
  CHECK(get(server.port(), "/cgi-bin/x").body == "ran");
  CHECK(server.stop() == 0);
}

TEST_CASE("a temporary folder that does not exist is told as such") {
  TempFolder folder;
  folder.write("cgi-bin/x", "#!/bin/sh\ncat >/dev/null\nprintf 'Content-Type: text/plain\\n\\nran'\n", 0755);
  Server server(folder.path(), {}, {"TMPDIR=/no/such/folder"});
  Connection connection(server.port());
  connection.send(
      "POST /cgi-bin/x HTTP/1.1\r\nHost: localhost\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n");
  const Response response = connection.receive();
  CHECK(response.status == 503);
  CHECK(has(response.body, "/no/such/folder"));
  CHECK(has(response.body, "No such file or directory"));
  CHECK(server.stop() == 0);
}

TEST_CASE("however one file is spelt, it is kept once") {
  TempFolder folder;
  folder.write("timetable.html", std::string(3000, 't'));
  // What the sanitizer holds back of freed memory is not the server's.
  SettledServer server(folder,
                       "addresses = [PORT]\n[exchanges]\nkeep = false\n[site.quay]\ndocument-root = \".\"\n"
                       "hosts = [\"localhost\"]\n",
                       {"--threads", "1"}, {"ASAN_OPTIONS=quarantine_size_mb=1"});
  pause_ms(2100);  // Younger files are not kept.
  CHECK(get(server.port(), "/timetable.html").status == 200);
  const std::string name = "timetable.html";
  const auto spelt = [&](unsigned pattern) {
    std::string out = "/";
    for (std::size_t i = 0; i < name.size(); ++i) {
      std::array<char, 4> escape{};
      std::snprintf(escape.data(), escape.size(), "%%%02x", static_cast<unsigned>(name[i]));
      out += (pattern >> i & 1) != 0 ? std::string(escape.data()) : std::string(1, name[i]);
    }
    return out;
  };
  Connection connection(server.port());
  const auto ask_all = [&](unsigned from, unsigned to) {
    for (unsigned pattern = from; pattern < to; ++pattern) {
      connection.send("GET " + spelt(pattern) + " HTTP/1.1\r\nHost: localhost\r\n\r\n");
      if (connection.receive().body.size() != 3000) return false;
    }
    return true;
  };
  REQUIRE(ask_all(0, 3000));  // Until the log holds as much as it ever does.
  const long before = resident_kib(server.program().id());
  REQUIRE(ask_all(3000, 10500));
  CHECK(resident_kib(server.program().id()) - before < 6 * 1024);
  CHECK(server.stop() == 0);
}
