// Clients that leave before their script has ended, and what scripts leave running behind their page.
#include <signal.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <filesystem>

#include "support/support.hpp"

using namespace porter::test;

namespace {

/// One folder of pages, by which pages of PHP are run in a pool or fresh, with `more` for both sites.
std::string two_sites(const std::string& more = "") {
  std::string out = "addresses = [PORT]\n";
  for (const char* const name : {"pool", "fresh"}) {
    out += std::string("[site.") + name + "]\ndocument-root = \"pages\"\n" + more;
    if (name == std::string("fresh")) out += "[site.fresh.interpreter.PHP]\npersistent = false\n";
  }
  return out;
}

/// Asks for `target` at the site, and leaves after a moment.
void ask_and_leave(std::uint16_t port, const std::string& site, const std::string& target, int milliseconds) {
  Connection leaving(port);
  leaving.send("GET " + target + " HTTP/1.1\r\nHost: " + site + ".localhost\r\n\r\n");
  pause_ms(milliseconds);
}

bool exists(const TempFolder& folder, const std::string& name) {
  return std::filesystem::exists(folder.path() + "/" + name);
}

}  // namespace

TEST_CASE("a script whose client leaves is told so by its write, and goes on if it asked for that") {
  TempFolder folder;
  const std::string done = folder.path() + "/done-";
  folder.write("pages/writes.php",
               "<?php for ($i = 0; $i < 300; ++$i) { echo str_repeat('07:40 ', 1000); flush(); usleep(50000); }"
               "touch('" +
                   done + "writes-' . $_GET['n']);");
  folder.write("pages/job.php",
               "<?php ignore_user_abort(true); sleep(2); echo str_repeat('07:40 ', 2000); flush(); touch('" + done +
                   "job-' . $_GET['n']);");
  folder.write("pages/pid.php", "<?php echo getmypid();");
  SettledServer server(folder, two_sites());
  const auto runs_now = [&] {
    return call(control_socket(folder), "GET", "/v1/status").body.find("\"script\"") != std::string::npos;
  };
  for (const std::string site : {"pool", "fresh"}) {
    CAPTURE(site);
    for (int i = 0; i < 6; ++i) ask_and_leave(server.port(), site, "/writes.php?n=" + site, 150);
    CHECK(eventually([&] { return !runs_now(); }));
    ask_and_leave(server.port(), site, "/job.php?n=" + site, 300);
    // Meanwhile others are answered.
    CHECK(ask_host(server.port(), site + ".localhost", "/pid.php").status == 200);
    CHECK(eventually([&] { return exists(folder, "done-job-" + site); }));
    CHECK(!exists(folder, "done-writes-" + site));
    CHECK(eventually([&] {
      return has(call(control_socket(folder), "GET", "/v1/log?site=" + site).body, "client left; went on for ");
    }));
  }
  CHECK(server.stop() == 0);
}

TEST_CASE("scripts that go on for nobody end with the server") {
  TempFolder folder;
  folder.write("pages/long.php", "<?php ignore_user_abort(true); touch('" + folder.path() +
                                     "/begun-' . $_GET['n']); sleep(7413); touch('" + folder.path() + "/over');");
  SettledServer server(folder, two_sites());
  for (const std::string site : {"pool", "fresh"}) {
    Connection leaving(server.port());
    leaving.send("GET /long.php?n=" + site + " HTTP/1.1\r\nHost: " + site + ".localhost\r\n\r\n");
    REQUIRE(eventually([&] { return exists(folder, "begun-" + site); }));
  }
  std::vector<pid_t> children;
  // Those that were asked for their versions at the start have ended.
  CHECK(eventually([&] {
    children = children_of(server.program().id());
    return children.size() == 2;
  }));
  SECTION("stopped") { CHECK(server.stop() == 0); }
  SECTION("killed") { server.program().signal(SIGKILL); }
  for (const pid_t child : children) CHECK(eventually([&] { return ::kill(child, 0) != 0; }));
  CHECK(!exists(folder, "over"));
}

TEST_CASE("what a script leaves running is told by name, and lives on only where the settings say so") {
  TempFolder folder;
  // A number that no other test looks for, nor another run of this one.
  const std::string seconds = "7414." + std::to_string(::getpid());
  folder.write("pages/left.php", "<?php exec('sleep " + seconds + " > /dev/null 2>&1 &'); echo 'ok';");
  const bool lives_on = GENERATE(false, true);
  CAPTURE(lives_on);
  SettledServer server(folder, two_sites(lives_on ? "leave-running = true\n" : ""));
  std::size_t left = 0;
  for (const std::string site : {"pool", "fresh"}) {
    CAPTURE(site);
    CHECK(ask_host(server.port(), site + ".localhost", "/left.php").body == "ok");
    left += lives_on ? 1 : 0;
    CHECK(eventually([&] { return processes_with(sleeper(seconds)).size() == left; }));
    const std::string log = call(control_socket(folder), "GET", "/v1/log?site=" + site).body;
    CHECK(has(log, "left this running, and it was ended with its run: sleep " + seconds + " (process ") == !lives_on);
  }
  pause_ms(1500);
  CHECK(processes_with(sleeper(seconds)).size() == left);
  CHECK(server.stop() == 0);
  CHECK(eventually([&] { return processes_with(sleeper(seconds)).empty(); }));
}
