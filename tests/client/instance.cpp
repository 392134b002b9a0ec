// The server that stays, by its commands: start, stop, status, reload, log, site, mount, and what can go wrong.
#include <sys/stat.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <csignal>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;

namespace {

/// A settings file with a home of its own, so that no server of another test is met.
class Home {
 public:
  Home() : port_(free_port()), other_port_(free_port()) {
    folder_.write("pages/index.html", "Gull Sound");
    folder_.write("pages/cgi-bin/slow", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n'\nsleep 1\necho done\n",
                  0755);
    folder_.write("office/index.html", "Office");
    settings(usual());
  }
  ~Home() { run({"stop"}); }
  Home(const Home&) = delete;
  Home& operator=(const Home&) = delete;

  std::uint16_t port() const { return port_; }
  std::uint16_t other_port() const { return other_port_; }
  std::string path(const std::string& name = "") const { return folder_.path() + "/" + name; }
  std::string usual() const {
    return "addresses = " + std::to_string(port_) + "\n[site.gulls]\ndocument-root = \"pages\"\n";
  }
  void settings(const std::string& text) const { folder_.write("uporter.toml", text); }
  std::string settings() const {
    std::ostringstream out;
    out << std::ifstream(path("uporter.toml")).rdbuf();
    return out.str();
  }
  std::string state() const {
    // One instance, so one folder.
    const std::string base = path("state/upright-porter/");
    Program list({"ls", base});
    std::string name = list.output();
    while (name.ends_with('\n')) name.pop_back();
    return base + name;
  }

  Outcome run(std::vector<std::string> words) const {
    words.insert(words.begin(), built("uporter"));
    words.insert(words.end(), {"--settings", path("uporter.toml")});
    return outcome_of(words, environment());
  }
  std::vector<std::string> environment() const {
    return {"HOME=" + path(), "XDG_STATE_HOME=" + path("state"), "XDG_CONFIG_HOME=" + path("config"),
            "XDG_RUNTIME_DIR=", "PATH=" + path("programs") + ":" + std::getenv("PATH")};
  }
  void write(const std::string& name, const std::string& text, unsigned mode = 0644) const {
    folder_.write(name, text, mode);
  }
  pid_t process() const {
    pid_t id = 0;
    std::ifstream(state() + "/lock") >> id;
    return id;
  }

 private:
  TempFolder folder_;
  std::uint16_t port_;
  std::uint16_t other_port_;
};

}  // namespace

TEST_CASE("start returns when the server answers, once for each settings file; stop ends it") {
  const Home home;
  CHECK(home.run({"status"}).status == 1);
  const Outcome started = home.run({"start"});
  CHECK(started.status == 0);
  CHECK(has(started.output, "http://gulls.localhost:" + std::to_string(home.port()) + "/"));
  CHECK(get(home.port(), "/").body == "Gull Sound");
  const Outcome again = home.run({"start"});
  CHECK(again.status == 0);
  CHECK(has(again.output, "It runs already."));
  const Outcome status = home.run({"status", "--json"});
  for (const char* const part :
       {"\"state\": \"running\"", "\"requests\": 1", "\"settings\": ", "\"interpreters\"", "\"runs\""})
    CHECK(has(status.output, part));
  CHECK(has(home.run({"log"}).output, "GET / "));
  const pid_t before = home.process();
  CHECK(home.run({"restart"}).status == 0);
  CHECK(home.process() != before);
  CHECK(home.run({"stop"}).status == 0);
  CHECK(home.run({"stop"}).output.starts_with("No server runs"));
  CHECK(home.run({"status"}).status == 1);
  CHECK(home.run({"log"}).status == 1);
}

TEST_CASE("a pause closes the addresses and keeps the console, whose key only its owner can read") {
  const Home home;
  CHECK(home.run({"pause"}).output.starts_with("No server runs"));
  REQUIRE(home.run({"start"}).status == 0);
  const std::string url = home.run({"open", "console"}).output;
  const auto begin = static_cast<std::ptrdiff_t>(url.find("#key=") + 5);
  const std::string key(url.begin() + begin, url.begin() + begin + 64);
  const auto console_port =
      static_cast<std::uint16_t>(std::atoi(url.c_str() + std::string("http://localhost:").size()));
  struct stat info {};
  REQUIRE(::stat((home.state() + "/console-key").c_str(), &info) == 0);
  CHECK((info.st_mode & 0777) == 0600);
  const std::string with_key = "Authorization: Bearer " + key + "\r\n";
  const auto state = [&] {
    Connection connection(console_port);
    connection.send("GET /v1/status HTTP/1.1\r\nHost: localhost:" + std::to_string(console_port) + "\r\n" + with_key +
                    "Connection: close\r\n\r\n");
    return connection.receive().body;
  };
  CHECK(has(state(), "\"state\": \"running\""));
  Connection kept(home.port());
  kept.send("GET / HTTP/1.1\r\nHost: localhost\r\n\r\n");
  CHECK(kept.receive().status == 200);
  CHECK(home.run({"pause"}).status == 0);
  CHECK(kept.is_closed());
  CHECK_THROWS(Connection(home.port()));
  CHECK(has(state(), "\"state\": \"paused\""));
  CHECK(has(home.run({"status"}).output, "is paused"));
  // Other settings do not end the pause.
  home.settings(home.usual() + "listing = false\n");
  CHECK(home.run({"reload"}).status == 0);
  CHECK_THROWS(Connection(home.port()));
  CHECK(home.run({"resume"}).status == 0);
  CHECK(get(home.port(), "/").status == 200);
  CHECK(home.run({"restart"}).status == 0);
  const std::string other = home.run({"open", "console"}).output;
  CHECK_FALSE(has(other, key));
}

TEST_CASE("a restart by the control interface stays the same process, in the background as before") {
  const Home home;
  REQUIRE(home.run({"start"}).status == 0);
  const pid_t process = home.process();
  CHECK(get(home.port(), "/").status == 200);
  const auto ask = [&](const std::string& call) {
    return outcome_of({"curl", "-s", "--unix-socket", home.state() + "/control", "-X", "POST", "http://x/v1/" + call});
  };
  CHECK(has(ask("restart").output, "stopping"));
  CHECK(eventually([&] { return has(home.run({"status"}).output, "0 requests answered"); }));
  CHECK(get(home.port(), "/").status == 200);
  CHECK(home.process() == process);
  // A hangup has the logs opened anew, and ends nothing.
  ::kill(process, SIGHUP);
  CHECK(get(home.port(), "/").status == 200);
  // What would not start goes on.
  home.settings("addresses = x\n");
  CHECK(has(ask("restart").output, "findings"));
  CHECK(get(home.port(), "/").status == 200);
}

TEST_CASE("a console is at the next lower port where its own is taken, moves with the settings, and can be left out") {
  const Home home;
  Server holder(home.path("pages"), {"--console", "off"}, {"XDG_STATE_HOME=" + home.path("other"), "XDG_RUNTIME_DIR="});
  const std::uint16_t wanted = holder.port();
  home.settings("console = " + std::to_string(wanted) + "\n" + home.usual());
  CHECK_FALSE(has(holder.start_lines(), "Console"));
  REQUIRE(home.run({"start"}).status == 0);
  const std::string url = home.run({"open", "console"}).output;
  CHECK(std::atoi(url.c_str() + std::string("http://localhost:").size()) < wanted);
  home.settings("console = false\n" + home.usual());
  CHECK(home.run({"reload"}).status == 0);
  CHECK(has(home.run({"open", "console"}).output, "has no console"));
}

TEST_CASE("two starts at once leave one server") {
  const Home home;
  std::vector<Outcome> outcomes(4);
  std::vector<std::thread> starts;
  for (Outcome& outcome : outcomes) starts.emplace_back([&] { outcome = home.run({"start"}); });
  for (std::thread& start : starts) start.join();
  for (const Outcome& outcome : outcomes) {
    CAPTURE(outcome.output);
    CHECK(outcome.status == 0);
  }
  CHECK(get(home.port(), "/").status == 200);
}

TEST_CASE("settings that may not be read are explained") {
  if (::getuid() != 0) return;
  const Home home;
  ::chmod(home.path().c_str(), 0755);
  ::chmod(home.path("uporter.toml").c_str(), 0);
  Program check({"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", built("uporter"), "check",
                 home.path("uporter.toml")});
  CHECK(has(check.output(), "cannot be read: Permission denied"));
  CHECK(check.wait() == 2);
}

TEST_CASE("a language that a site has in a way of its own is listed for that site") {
  const Home home;
  home.settings(home.usual() + "[site.gulls.interpreter.PHP]\npersistent = false\n");
  const std::string table = home.run({"languages"}).output;
  CHECK(has(table, "/php-cgi, persistent\n"));
  CHECK(has(table, "/php-cgi, for site gulls\n"));
  REQUIRE(home.run({"start"}).status == 0);
  std::string status;
  CHECK(eventually([&] { return has(status = home.run({"status"}).output, " for gulls, compiled programs"); }));
  CAPTURE(status);
  CHECK(has(home.run({"status", "--json"}).output, "\"site\": \"gulls\""));
}

TEST_CASE("stop lets what is running finish") {
  const Home home;
  REQUIRE(home.run({"start"}).status == 0);
  Connection connection(home.port());
  connection.send("GET /cgi-bin/slow HTTP/1.1\r\nHost: localhost\r\n\r\n");
  pause_ms(300);
  CHECK(home.run({"stop"}).status == 0);
  CHECK(connection.receive().body == "done\n");
}

TEST_CASE("what a killed server left behind is recognised, and is not in the way") {
  const Home home;
  REQUIRE(home.run({"start"}).status == 0);
  const pid_t first = home.process();
  ::kill(first, SIGKILL);
  REQUIRE(eventually([&] { return home.run({"status"}).status == 1; }));
  const Outcome doctor = home.run({"doctor"});
  CHECK(doctor.status == 0);
  CHECK(has(doctor.output, "left behind by a server that was killed (process " + std::to_string(first) + ")"));
  CHECK(home.run({"start"}).status == 0);
  CHECK(get(home.port(), "/").status == 200);
  CHECK(home.run({"stop"}).status == 0);
  CHECK(home.run({"doctor"}).status == 0);
}

TEST_CASE("a start that cannot be says why") {
  const Home home;
  TempFolder other;
  Server taken(other.path());
  home.settings("addresses = " + std::to_string(taken.port()) + "\n[site.a]\ndocument-root = \"pages\"\n");
  const Outcome port = home.run({"start"});
  CHECK(port.status == 3);
  CHECK(has(port.output, "is taken by uporterd (process " + std::to_string(taken.program().id()) + ")"));
  home.settings("addresses = \"nowhere\"\n");
  const Outcome mistake = home.run({"start"});
  CHECK(mistake.status == 2);
  CHECK(has(mistake.output, "uporter.toml:1:13: "));
  CHECK(home.run({"check"}).status == 2);
  CHECK(has(home.run({"check"}).output, "1 problem in "));
  home.settings(home.usual());
  CHECK(has(home.run({"check"}).output, "is fine: 1 site, 1 address."));
  CHECK(taken.stop() == 0);
}

TEST_CASE("settings are taken up when they are saved, and bad ones change nothing") {
  const Home home;
  REQUIRE(home.run({"start"}).status == 0);
  home.settings(home.usual() + "listing = false\n[site.office]\ndocument-root = \"office\"\naddresses = " +
                std::to_string(home.other_port()) + "\n");
  const auto office_answers = [&] {
    Program curl({"curl", "-s", "http://office.localhost:" + std::to_string(home.other_port()) + "/"});
    return curl.output() == "Office";
  };
  CHECK(eventually(office_answers));
  // An editor that writes another file and puts it in the place of the first.
  std::ofstream(home.path("fresh")) << home.usual();
  ::rename(home.path("fresh").c_str(), home.path("uporter.toml").c_str());
  CHECK(eventually([&] { return !office_answers(); }));
  CHECK(get(home.port(), "/").body == "Gull Sound");

  home.settings(home.usual() + "listin = false\n");
  CHECK(eventually([&] { return has(home.run({"status"}).output, "Did you mean \"listing\"?"); }));
  CHECK(get(home.port(), "/").body == "Gull Sound");
  const Outcome reload = home.run({"reload"});
  CHECK(reload.status == 2);
  CHECK(has(reload.output, "uporter.toml:4:1: "));
  CHECK(has(home.run({"log"}).output, "Settings not applied"));
  home.settings(home.usual());
  CHECK(home.run({"reload"}).status == 0);
  CHECK(has(home.run({"status"}).output, "Findings     none"));
}

TEST_CASE("sites and mounts come and go, with and without a server, and the file stays as it was") {
  const Home home;
  const std::string before = "# Ours, by hand.\n" + home.usual() + "# The end.\n";
  home.settings(before);
  for (const bool running : {false, true}) {
    CAPTURE(running);
    if (running) REQUIRE(home.run({"start"}).status == 0);
    const std::string port = std::to_string(home.other_port());
    const Outcome added =
        home.run({"site", "add", "office", home.path("office"), "--port", port, "--host", "desk.localhost"});
    CHECK(added.status == 0);
    CHECK(added.output.starts_with("http://desk.localhost:" + port + "/"));
    CHECK(home.run({"site", "add", "office", home.path("office")}).status == 2);
    CHECK(home.run({"site", "add", "none", home.path("none")}).status == 2);
    CHECK(home.run({"mount", "add", "/desk", home.path("office"), "--site", "gulls"})
              .output.starts_with("http://gulls.localhost:" + std::to_string(home.port()) + "/desk/"));
    if (running) CHECK(get(home.port(), "/desk/").body == "Office");
    CHECK(has(home.run({"site", "list"}).output, "/desk"));
    CHECK(has(home.run({"open", "office"}).output, "http://desk.localhost:" + port + "/"));
    CHECK(home.run({"mount", "remove", "/desk", "--site", "gulls"}).status == 0);
    CHECK(home.run({"mount", "remove", "/desk", "--site", "gulls"}).status == 2);
    CHECK(home.run({"site", "remove", "office"}).status == 0);
    CHECK(home.settings() == before);
  }
  // The list is the same, whoever makes it.
  REQUIRE(home.run({"mount", "add", "/desk", home.path("office"), "--site", "gulls"}).status == 0);
  const std::string by_server = home.run({"site", "list", "--json"}).output;
  REQUIRE(home.run({"stop"}).status == 0);
  CHECK(home.run({"site", "list", "--json"}).output == by_server);
  CHECK(has(by_server, "\"target\": \"" + home.path("office") + "\""));
  CHECK(home.run({"mount", "remove", "/desk", "--site", "gulls"}).status == 0);
  REQUIRE(home.run({"start"}).status == 0);
  TempFolder other;
  Server taken(other.path());
  CHECK(has(home.run({"site", "add", "x", home.path("office"), "--port", std::to_string(taken.port())}).output,
            "is taken by"));
  CHECK(home.settings() == before);
  CHECK(taken.stop() == 0);
}

TEST_CASE("the control socket is its owner's alone") {
  const Home home;
  REQUIRE(home.run({"start"}).status == 0);
  struct stat info {};
  REQUIRE(::stat((home.state() + "/control").c_str(), &info) == 0);
  CHECK((info.st_mode & 0777) == 0600);
  REQUIRE(::stat(home.state().c_str(), &info) == 0);
  CHECK((info.st_mode & 0777) == 0700);
  if (::getuid() != 0) return;
  Program stranger({"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "curl", "-sS", "--unix-socket",
                    home.state() + "/control", "http://localhost/v1/status"});
  CHECK(has(stranger.output(), "ouldn't connect"));
  CHECK(stranger.wait() != 0);
}

TEST_CASE("the log can be followed, and asked for one site and for errors") {
  const Home home;
  home.settings(home.usual() + "[site.office]\ndocument-root = \"office\"\n");
  REQUIRE(home.run({"start"}).status == 0);
  const std::string at = ":" + std::to_string(home.port());
  std::vector<std::string> words = {built("uporter"), "log", "--follow", "--settings", home.path("uporter.toml")};
  Program follow(words, home.environment());
  for (const std::string& url : {"http://gulls.localhost" + at + "/", "http://office.localhost" + at + "/",
                                 "http://office.localhost" + at + "/none"})
    Program({"curl", "-s", "-o", "/dev/null", url}).wait();
  CHECK(has(follow.read_until("/none"), "GET /none"));
  const std::string office = home.run({"log", "--site", "office"}).output;
  CHECK(has(office, "[office]"));
  CHECK_FALSE(has(office, "[gulls]"));
  const std::string errors = home.run({"log", "--errors"}).output;
  CHECK(has(errors, "GET /none"));
  CHECK_FALSE(has(errors, "GET / "));
  CHECK(home.run({"stop"}).status == 0);
  CHECK(follow.wait() == 0);
}

TEST_CASE("the access log has the usual form, is opened anew on SIGHUP, and a full disk stops nothing") {
  const Home home;
  home.settings(home.usual() + "[log]\naccess = \"access.log\"\n");
  REQUIRE(home.run({"start"}).status == 0);
  const auto content = [&](const std::string& name) {
    std::ostringstream out;
    out << std::ifstream(home.path(name)).rdbuf();
    return out.str();
  };
  get(home.port(), "/a%22b?c=\"d", "Referer: http://gulls.localhost/\r\nUser-Agent: Gull \"1\"\r\n");
  CHECK(eventually([&] { return has(content("access.log"), "Gull"); }));
  const std::string line = content("access.log");
  CHECK(line.starts_with("127.0.0.1 - - ["));
  CHECK(line.ends_with("\"http://gulls.localhost/\" \"Gull \\\"1\\\"\"\n"));
  ::rename(home.path("access.log").c_str(), home.path("access.old").c_str());
  ::kill(home.process(), SIGHUP);
  CHECK(eventually([&] {
    get(home.port(), "/");
    return has(content("access.log"), "\"GET / HTTP/1.1\" 200 10 \"-\" \"-\"\n");
  }));
  CHECK(content("access.old").find("GET / ") == std::string::npos);

  home.settings(home.usual() + "[log]\naccess = \"access.log\"\nformat = \"json\"\n");
  CHECK(eventually([&] {
    get(home.port(), "/");
    return has(content("access.log"), "\"site\":\"gulls\"");
  }));
  home.settings(home.usual() + "[log]\naccess = \"/dev/full\"\n");
  CHECK(eventually([&] {
    CHECK(get(home.port(), "/").status == 200);
    return has(home.run({"status"}).output, "/dev/full cannot be written: No space left on device");
  }));
}

TEST_CASE("autostart writes a unit that starts this program, and takes it away; where it cannot, it leaves none") {
  const Home home;
  const std::string units = home.path("config/systemd/user");
  // A stand-in for the service manager, which does what it is told unless the file "refuses" is there.
  home.write("programs/systemctl",
             "#!/bin/sh\ntest -e \"$HOME/refuses\" && exit 1\nmkdir -p " + units +
                 "/default.target.wants\ncase \"$*\" in\n"
                 "*enable*--now*) ln -sf ../$4 " +
                 units + "/default.target.wants/$4 ;;\n*disable*) rm -f " + units +
                 "/default.target.wants/* ;;\nesac\n",
             0755);
  home.write("refuses", "");
  const Outcome refused = home.run({"autostart", "on"});
  CHECK(refused.status == 1);
  CHECK(has(refused.output, "nothing was changed"));
  CHECK(has(refused.output, "~/.config/autostart/upright-porter.desktop"));
  CHECK(!has(refused.output, "Written: "));
  CHECK(home.run({"autostart", "status"}).status == 1);
  std::filesystem::remove(home.path("refuses"));
  const std::string on = home.run({"autostart", "on"}).output;
  REQUIRE(has(on, "Written: "));
  const std::string file =
      on.substr(on.find("Written: ") + 9, on.find('\n', on.find("Written: ")) - on.find("Written: ") - 9);
  std::ostringstream unit;
  unit << std::ifstream(file).rdbuf();
  CHECK(has(unit.str(), "Type=notify"));
  CHECK(has(unit.str(), "ExecStart=\"" + built("uporterd") + "\" --settings \"" + home.path("uporter.toml") + "\""));
  CHECK(home.run({"autostart", "status"}).status == 0);
  CHECK(has(home.run({"autostart", "off"}).output, "Removed: "));
  CHECK(home.run({"autostart", "status"}).status == 1);
}

TEST_CASE("where there is no site, a start page shows that the server works") {
  const Home home;
  home.settings("addresses = " + std::to_string(home.port()) + "\n");
  REQUIRE(home.run({"start"}).status == 0);
  const Response page = get(home.port(), "/");
  CHECK(page.status == 200);
  CHECK(has(page.body, "No site here yet"));
  CHECK(has(page.body, "uporter site add NAME FOLDER"));
  ::mkdir(home.path("bare").c_str(), 0755);
  CHECK(home.run({"site", "add", "bare", home.path("bare")}).status == 0);
  CHECK(has(get(home.port(), "/").body, home.path("bare") + "</code> is empty"));
}

TEST_CASE("the control interface answers as its description says") {
  const Home home;
  home.settings(home.usual() + "[site.gulls.mounts]\n\"/desk\" = \"office\"\n");
  REQUIRE(home.run({"start"}).status == 0);
  Program check({"/usr/bin/python3", PORTER_DEMO "/../tests/support/check_control.py",
                 PORTER_DEMO "/../docs/control.openapi.yaml", home.state() + "/control", home.path("office"),
                 PORTER_BUILT});
  const std::string output = check.output();
  CAPTURE(output);
  CHECK(check.wait() == 0);
  CHECK(has(output, "calls held against the description"));
}
