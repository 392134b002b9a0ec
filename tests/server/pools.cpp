// What pools owe to those who wait, whoever else is slow, is edited or is killed.
#include <fcntl.h>
#include <netinet/in.h>
#include <signal.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
#include <catch2/catch.hpp>
#include <filesystem>
#include <fstream>
#include <set>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;
namespace fs = std::filesystem;

namespace {

std::string one_site(const std::string& of_php, const std::string& limits = "") {
  return "addresses = [PORT]\n[exchanges]\nkeep = false\n[limits]\n" + limits +
         "[site.kept]\ndocument-root = \"pages\"\nhosts = [\"localhost\"]\n[interpreter.PHP]\n" + of_php;
}

/// A client that asks, and takes next to nothing of the response until it reads.
class SlowClient {
 public:
  SlowClient(std::uint16_t port, const std::string& target) : socket_(::socket(AF_INET, SOCK_STREAM, 0)) {
    set_room(4096);
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_port = htons(port);
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    REQUIRE(::connect(socket_, reinterpret_cast<const sockaddr*>(&address), sizeof address) == 0);
    const std::string head = "GET " + target + " HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n";
    REQUIRE(::send(socket_, head.data(), head.size(), MSG_NOSIGNAL) == static_cast<ssize_t>(head.size()));
  }
  ~SlowClient() { ::close(socket_); }
  SlowClient(const SlowClient&) = delete;
  SlowClient& operator=(const SlowClient&) = delete;

  /// All of it, as it comes.
  std::string receive() {
    set_room(4 * 1024 * 1024);
    std::string out;
    std::string piece(1024 * 1024, '\0');
    for (ssize_t got = 0; (got = ::recv(socket_, piece.data(), piece.size(), 0)) > 0;)
      out.append(piece, 0, static_cast<std::size_t>(got));
    return out;
  }

 private:
  void set_room(int bytes) { ::setsockopt(socket_, SOL_SOCKET, SO_RCVBUF, &bytes, sizeof bytes); }

  int socket_;
};

}  // namespace

TEST_CASE("a process is free as soon as it has ended, however slowly its client takes the page") {
  TempFolder folder;
  folder.write("pages/large.php", "<?php echo str_repeat('Skerry Head to Morrow Bay. ', 130000);");
  folder.write("pages/small.php", "<?php echo 'Kittiwake';");
  SettledServer server(folder, one_site("processes = 1\n"));
  CHECK(get(server.port(), "/small.php").body == "Kittiwake");
  SlowClient slow(server.port(), "/large.php");
  pause_ms(100);
  const auto begun = std::chrono::steady_clock::now();
  for (int i = 0; i < 20; ++i) CHECK(get(server.port(), "/small.php").body == "Kittiwake");
  CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(10));
  const std::string large = slow.receive();
  CHECK(large.size() > 130000 * 27);
  CHECK(large.ends_with("\r\n0\r\n\r\n"));
}

TEST_CASE("a script is not blamed for a client that is slow") {
  TempFolder folder;
  folder.write("pages/larger.php",
               "<?php for ($i = 0; $i < 16; ++$i) { echo str_repeat('Skerry Head to Morrow Bay. ', 50000); flush(); }");
  const std::string ways[] = {"processes = 1\n", "persistent = false\n"};
  for (const std::string& way : ways) {
    CAPTURE(way);
    SettledServer server(folder, one_site(way, "total-time = 2\nfirst-byte = 2\n"));
    SlowClient slow(server.port(), "/larger.php");
    pause_ms(3500);
    const std::string response = slow.receive();
    CHECK(response.size() > 16 * 50000 * 27);
    CHECK(response.ends_with("\r\n0\r\n\r\n"));
  }
}

TEST_CASE("a process that is ended from outside costs no request that it has not read") {
  TempFolder folder;
  folder.write("pages/pid.php", "<?php echo getmypid();");
  SettledServer server(folder, one_site("processes = 2\n"));
  std::atomic<bool> is_over{false};
  std::atomic<int> answered{0};
  std::atomic<int> failed{0};
  std::vector<std::thread> clients;
  std::vector<std::string> told(6);
  for (std::size_t i = 0; i < told.size(); ++i)
    clients.emplace_back([&, i] {
      while (!is_over) {
        Connection connection(server.port());
        for (int j = 0; j < 50 && !is_over; ++j) {
          connection.send("GET /pid.php HTTP/1.1\r\nHost: localhost\r\n\r\n");
          const Response response = connection.receive();
          (response.status == 200 ? answered : failed) += 1;
          if (response.status != 200) told[i] = response.head + response.body;
        }
      }
    });
  const int kills = 40;
  for (int i = 0; i < kills; ++i) {
    // Those that are new have answered something before they are ended as well.
    const int before = answered;
    CHECK(eventually([&] { return answered > before + 20; }));
    for (const pid_t process : children_of(server.program().id())) ::kill(process, SIGTERM);
  }
  is_over = true;
  for (std::thread& client : clients) client.join();
  CAPTURE(answered.load(), told);
  CHECK(failed == 0);
  CHECK(answered > kills);
}

TEST_CASE("another command replaces the processes that the one before has started") {
  TempFolder folder;
  folder.write("pages/pid.php", "<?php echo getmypid();");
  const auto settings = [&](const std::string& command) {
    return one_site("processes = 2\ncommand = \"" + command + "\"\n");
  };
  fs::copy_file("/usr/bin/php-cgi", folder.path() + "/php-cgi-of-mine");
  SettledServer server(folder, settings("/usr/bin/php-cgi"));
  const std::string first = get(server.port(), "/pid.php").body;
  // Beside it there may be those that were asked for their versions.
  REQUIRE(eventually([&] { return children_of(server.program().id()).size() == 1; }));
  std::string text = settings(folder.path() + "/php-cgi-of-mine");
  text.replace(text.find("PORT"), 4, std::to_string(server.port()));
  folder.write("uporter.toml", text);
  CHECK(eventually([&] { return get(server.port(), "/pid.php").body != first; }));
  CHECK(eventually([&] { return children_of(server.program().id()).size() == 1; }));
}

TEST_CASE("what PHP is set up by is watched behind links and folders that are made anew") {
  TempFolder folder;
  folder.write("pages/limit.php", "<?php echo ini_get('memory_limit');");
  folder.write("one/php.ini", "memory_limit = 71M\n");
  folder.write("two/php.ini", "memory_limit = 72M\n");
  fs::create_directory_symlink("one", folder.path() + "/set-up");
  SettledServer server(folder, one_site("processes = 1\ncommand = [\"/usr/bin/php-cgi\", \"-c\", \"" + folder.path() +
                                        "/set-up/php.ini\"]\n"));
  const auto limit = [&] { return get(server.port(), "/limit.php").body; };
  CHECK(limit() == "71M");
  pause_ms(300);  // Until it is known what it reads.
  CHECK(limit() == "71M");
  fs::remove(folder.path() + "/set-up");
  fs::create_directory_symlink("two", folder.path() + "/set-up");
  CHECK(limit() == "72M");
  fs::rename(folder.path() + "/two", folder.path() + "/old");
  folder.write("two/php.ini", "memory_limit = 73M\n");
  CHECK(limit() == "73M");
  std::ofstream(folder.path() + "/two/php.ini") << "memory_limit = 74M\n";
  CHECK(limit() == "74M");
}

TEST_CASE("another script of the same time is seen, moved into its place or led to by a link, and after a restart") {
  TempFolder folder;
  const bool is_kept = GENERATE(true, false);
  CAPTURE(is_kept);
  const auto write = [&](const std::string& name, const std::string& text) {
    folder.write(name, "<?php echo '" + text + "';");
    fs::last_write_time(folder.path() + "/" + name, fs::file_time_type::clock::now() - std::chrono::hours(10));
    const timespec times[2] = {{1'700'000'000, 0}, {1'700'000'000, 0}};
    REQUIRE(::utimensat(AT_FDCWD, (folder.path() + "/" + name).c_str(), times, 0) == 0);
  };
  write("pages/fares.php", "winter");
  write("new.php", "summer");
  write("pages/one/tides.php", "spring");
  write("pages/two/tides.php", "ebb...");
  fs::create_directory_symlink("one", folder.path() + "/pages/now");
  const std::string settings = one_site(is_kept ? "processes = 2\n" : "persistent = false\n");
  const auto ask = [](SettledServer& server, const std::string& target) {
    std::set<std::string> out;
    for (int i = 0; i < 4; ++i) out.insert(get(server.port(), target).body);
    return out;
  };
  {
    SettledServer server(folder, settings);
    CHECK(ask(server, "/fares.php") == std::set<std::string>{"winter"});
    CHECK(ask(server, "/now/tides.php") == std::set<std::string>{"spring"});
    pause_ms(2500);  // Until it is believed that it stays so.
    CHECK(ask(server, "/fares.php") == std::set<std::string>{"winter"});
    fs::rename(folder.path() + "/new.php", folder.path() + "/pages/fares.php");
    fs::remove(folder.path() + "/pages/now");
    fs::create_directory_symlink("two", folder.path() + "/pages/now");
    pause_ms(1100);  // So long is it remembered what a path leads to.
    CHECK(ask(server, "/fares.php") == std::set<std::string>{"summer"});
    CHECK(ask(server, "/now/tides.php") == std::set<std::string>{"ebb..."});
  }
  write("newer.php", "autumn");
  fs::rename(folder.path() + "/newer.php", folder.path() + "/pages/fares.php");
  SettledServer again(folder, settings);
  CHECK(ask(again, "/fares.php") == std::set<std::string>{"autumn"});
}

TEST_CASE("whoever has been idle longest gives way where descriptors are short") {
  TempFolder folder;
  std::string sites = "addresses = [PORT]\n[exchanges]\nkeep = false\n[interpreter.PHP]\nprocesses = 2\n";
  constexpr int kSites = 30;
  for (int i = 0; i < kSites; ++i) {
    const std::string name = "pier" + std::to_string(i);
    folder.write(name + "/index.php", "<?php echo '" + name + "';");
    folder.write(name + "/tide.txt", "07:40");
    sites += "[site." + name + "]\ndocument-root = \"" + name + "\"\nhosts = [\"" + name + ".localhost\"]\n";
  }
  SettledServer server(folder, sites, {"--threads", "1"});
  const rlimit tight{100, 100};
  REQUIRE(::prlimit(server.program().id(), RLIMIT_NOFILE, &tight, nullptr) == 0);
  for (int round = 0; round < 2; ++round)
    for (int i = 0; i < kSites; ++i) {
      const std::string name = "pier" + std::to_string(i);
      CAPTURE(round, name);
      const Response page = ask_host(server.port(), name + ".localhost", "/");
      CHECK(page.status == 200);
      CHECK(page.body == name);
      CHECK(ask_host(server.port(), name + ".localhost", "/tide.txt").status == 200);
    }
}

TEST_CASE("the log has a request as soon as it is answered") {
  TempFolder folder;
  folder.write("pages/tide.txt", "07:40");
  SettledServer server(folder, one_site(""));
  const std::string socket = control_socket(folder);
  for (int i = 0; i < 20; ++i) {
    const std::string target = "/tide.txt?" + std::to_string(i);
    CHECK(get(server.port(), target).status == 200);
    CHECK(has(call(socket, "GET", "/v1/log?limit=5").body, target));
  }
}

TEST_CASE("a script that makes copies of its process is answered whole, and no other page gets any of it") {
  TempFolder folder;
  // The copy ends before the one that answers, at the same time, or never by itself.
  folder.write("pages/before.php",
               "<?php ob_start(); $child = pcntl_fork(); if ($child == 0) { exit; } usleep(20000);"
               "ob_end_clean(); echo 'Skerry Head';");
  folder.write("pages/beside.php", "<?php $child = pcntl_fork(); if ($child == 0) { exit; } echo 'Skerry Head';");
  folder.write("pages/never.php", "<?php $child = pcntl_fork(); if ($child == 0) { sleep(3600); } echo 'Skerry Head';");
  folder.write("pages/tide.php", "<?php echo '07:40';");
  SettledServer server(folder, one_site("processes = 2\n"));
  std::atomic<bool> is_over{false};
  std::atomic<int> wrong{0};
  std::thread beside([&] {
    while (!is_over) wrong += get(server.port(), "/tide.php").body == "07:40" ? 0 : 1;
  });
  for (int i = 0; i < 10; ++i)
    for (const char* const page : {"/before.php", "/beside.php", "/never.php"}) {
      const Response response = get(server.port(), page);
      CAPTURE(page, i, response.head, response.body);
      CHECK(response.status == 200);
      CHECK(response.body.ends_with("Skerry Head"));
    }
  is_over = true;
  beside.join();
  CHECK(wrong == 0);
  // Two processes of the pool at most, and none that a script has left.
  CHECK(eventually([&] { return children_of(server.program().id()).size() <= 2; }));
}

TEST_CASE("what a run leaves running is ended with it, in a pool and fresh alike") {
  TempFolder folder;
  const bool is_kept = GENERATE(true, false);
  CAPTURE(is_kept);
  folder.write("pages/left.php", "<?php exec('sleep 7411 > /dev/null 2>&1 &'); echo 'ok';");
  folder.write("pages/session.php", "<?php exec('setsid sleep 7411 > /dev/null 2>&1 &'); echo 'ok';");
  folder.write("pages/child.php",
               "<?php $null = ['file', '/dev/null', 'w']; "
               "pcntl_fork() or pcntl_exec('/bin/sleep', ['7411']); echo 'ok';");
  SettledServer server(folder, one_site(is_kept ? "processes = 1\n" : "persistent = false\n"));
  for (const char* const page : {"/left.php", "/session.php", "/child.php"}) {
    CAPTURE(page);
    CHECK(get(server.port(), page).body == "ok");
    CHECK(eventually([] { return processes_with(sleeper("7411")).empty(); }));
  }
}

TEST_CASE("a process whose script has changed its limits, priority or signal mask answers no other") {
  TempFolder folder;
  folder.write("pages/limits.php", "<?php posix_setrlimit(POSIX_RLIMIT_FSIZE, 4711, 4711); echo getmypid();");
  folder.write("pages/priority.php", "<?php proc_nice(5); echo getmypid();");
  folder.write("pages/mask.php", "<?php pcntl_sigprocmask(SIG_BLOCK, [SIGUSR1]); echo getmypid();");
  folder.write("pages/alarm.php", "<?php pcntl_signal(SIGALRM, fn() => 1); pcntl_alarm(60); echo getmypid();");
  folder.write("pages/nothing.php", "<?php echo getmypid();");
  SettledServer server(folder, one_site("processes = 1\n"));
  for (const char* const page : {"/limits.php", "/priority.php", "/mask.php", "/alarm.php"}) {
    CAPTURE(page);
    const std::string altered = get(server.port(), page).body;
    CHECK(eventually([&] { return get(server.port(), "/nothing.php").body != altered; }));
  }
  // And one that has changed nothing stays.
  const std::string process = get(server.port(), "/nothing.php").body;
  for (int i = 0; i < 50; ++i) CHECK(get(server.port(), "/nothing.php").body == process);
}

TEST_CASE("runs of a pool wait as well where all runs together are too many") {
  TempFolder folder;
  folder.write("pages/slow.php", "<?php usleep(500000); echo 'ok';");
  SettledServer server(folder, one_site("processes = 6\n", "runs-most = 2\nqueue = 20\n"));
  const auto begun = std::chrono::steady_clock::now();
  std::vector<std::thread> clients;
  std::atomic<int> answered{0};
  for (int i = 0; i < 6; ++i) {
    clients.emplace_back([&] { answered += get(server.port(), "/slow.php").body == "ok" ? 1 : 0; });
    pause_ms(60);  // A run counts once it has lasted for a moment.
  }
  for (std::thread& client : clients) client.join();
  CHECK(answered == 6);
  CHECK(std::chrono::steady_clock::now() - begun >= std::chrono::milliseconds(1500));
}

TEST_CASE("an included file of the same time is seen after a reload and after a restart") {
  TempFolder folder;
  const bool is_kept = GENERATE(true, false);
  CAPTURE(is_kept);
  const auto write = [&](const std::string& text) {
    folder.write("new.inc", "<?php echo '" + text + "';");
    const timespec times[2] = {{1'700'000'000, 0}, {1'700'000'000, 0}};
    REQUIRE(::utimensat(AT_FDCWD, (folder.path() + "/new.inc").c_str(), times, 0) == 0);
    fs::rename(folder.path() + "/new.inc", folder.path() + "/pages/season.inc");
  };
  folder.write("pages/fares.php", "<?php include 'season.inc';");
  write("winter");
  const std::string settings = one_site(is_kept ? "processes = 1\n" : "persistent = false\n");
  {
    SettledServer server(folder, settings);
    for (int i = 0; i < 2; ++i) CHECK(get(server.port(), "/fares.php").body == "winter");
    write("summer");
    CHECK(call(control_socket(folder), "POST", "/v1/reload").status == 200);
    CHECK(get(server.port(), "/fares.php").body == "summer");
    write("autumn");
  }
  SettledServer again(folder, settings);
  CHECK(get(again.port(), "/fares.php").body == "autumn");
}
