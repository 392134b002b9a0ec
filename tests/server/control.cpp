// The control interface under attack: calls at bad moments, with bad values, and in numbers.
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/wait.h>

#include <array>
#include <atomic>
#include <catch2/catch.hpp>
#include <csignal>
#include <filesystem>
#include <fstream>
#include <memory>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;

namespace {

constexpr const char* kSlow = "#!/bin/sh\nsleep 0.7\nprintf 'Content-Type: text/plain\\n\\nslow'\n";

/// A server with settings, one site, and a slow script.
class Steerable {
 public:
  explicit Steerable(const std::string& more = "", std::vector<std::string> options = {},
                     const std::vector<std::string>& environment = {})
      : server_(filled(),
                "addresses = [PORT]\n" + more + "[site.tides]\ndocument-root = \"pages\"\nhosts = [\"localhost\"]\n",
                std::move(options), environment),
        socket_(control_socket(folder_)) {}

  std::uint16_t port() const { return server_.port(); }
  Program& program() { return server_.program(); }
  const TempFolder& folder() const { return folder_; }
  const std::string& socket() const { return socket_; }
  std::string settings_file() const { return folder_.path() + "/uporter.toml"; }
  Response call(const std::string& method, const std::string& target, const std::string& body = "") const {
    return porter::test::call(socket_, method, target, body);
  }
  /// Saves the settings with a remark at their end.
  void save(const std::string& remark) const { std::ofstream(settings_file(), std::ios::app) << "# " + remark + "\n"; }

 private:
  TempFolder& filled() {
    folder_.write("pages/index.html", "<p>Kittiwake</p>");
    folder_.write("pages/cgi-bin/slow", kSlow, 0755);
    folder_.write("pages/cgi-bin/echo", "#!/bin/sh\nprintf 'Content-Type: application/json\\n\\n'\ncat\n", 0755);
    return folder_;
  }

  TempFolder folder_;
  SettledServer server_;
  std::string socket_;
};

}  // namespace

TEST_CASE("settings are applied while an interpreter is asked about itself") {
  Steerable server;
  std::atomic<bool> is_over{false};
  std::thread asking([&] {
    while (!is_over)
      for (const char* const language : {"Perl", "PHP", "Python"})
        server.call("GET", std::string("/v1/languages/") + language);
  });
  for (int i = 0; i < 25; ++i) CHECK(server.call("POST", "/v1/reload").status == 200);
  is_over = true;
  asking.join();
  CHECK(server.call("GET", "/v1/languages/Perl").status == 200);
  server.program().signal(SIGTERM);
  CHECK(server.program().wait() == 0);
}

TEST_CASE("responses that nest without bound are compared, and sent again") {
  Steerable server;
  for (const char* const inner : {"1", "2"})
    CHECK(
        request(server.port(), "POST", "/cgi-bin/echo", "", std::string(25'000, '[') + inner + std::string(25'000, ']'))
            .status == 200);
  CHECK(eventually([&] { return server.call("GET", "/v1/exchanges/1/difference/2").status == 200; }));
  CHECK(has(server.call("GET", "/v1/exchanges/1/difference/2").body, "\"kind\":\"text\""));
  CHECK(server.call("POST", "/v1/exchanges/1/again", "{}").status == 200);
  // A call itself that nests too deeply is none.
  CHECK(server.call("POST", "/v1/explain", std::string(20'000, '[')).status == 422);
  CHECK(server.call("GET", "/v1/status").status == 200);
}

namespace {

/// What can be done to a server, and whether that ends it.
struct Deed {
  const char* name;
  bool ends;
  void (*does)(Steerable&);
};

const Deed kDeeds[] = {
    {"save", false, [](Steerable& on) { on.save("x"); }},
    {"reload", false, [](Steerable& on) { on.call("POST", "/v1/reload"); }},
    {"pause", false, [](Steerable& on) { on.call("POST", "/v1/pause"); }},
    {"resume", false, [](Steerable& on) { on.call("POST", "/v1/resume"); }},
    {"edit", false,
     [](Steerable& on) { on.call("PATCH", "/v1/sites/tides", R"({"hosts":["localhost","tides.localhost"]})"); }},
    {"restart", true, [](Steerable& on) { on.call("POST", "/v1/restart"); }},
    {"stop", true, [](Steerable& on) { on.call("POST", "/v1/stop"); }},
    {"SIGTERM", true, [](Steerable& on) { on.program().signal(SIGTERM); }}};

/// Does each of `deeds` to a server in the state that `before` brings about, with a request in flight; then it is to
/// end by SIGTERM. What has gone wrong; empty: nothing.
std::string outcome_of_deeds(const Deed* before, const std::vector<const Deed*>& deeds) {
  Steerable server("[limits]\nstop-time = 1\n");
  Connection waiting(server.port());
  waiting.send("GET /cgi-bin/slow HTTP/1.1\r\nHost: localhost\r\n\r\n");
  const auto attempt = [&](const Deed& deed) {
    try {
      deed.does(server);
    } catch (const std::exception&) {
      // It does not listen any more.
    }
  };
  if (before != nullptr) attempt(*before);
  for (const Deed* const deed : deeds) attempt(*deed);
  pause_ms(50);
  server.program().signal(SIGTERM);
  const bool has_ended = eventually(
      [&] {
        siginfo_t info{};
        return ::waitid(P_PID, static_cast<id_t>(server.program().id()), &info, WEXITED | WNOHANG | WNOWAIT) == 0 &&
               info.si_pid != 0;
      },
      std::chrono::seconds(20));
  if (!has_ended) return "does not end";
  const int status = server.program().wait();
  // One that had just begun anew is ended by the signal itself.
  return status == 0 || status == -SIGTERM ? "" : "ended by " + std::to_string(status);
}

}  // namespace

TEST_CASE("whatever is done to a server twice, with a request in flight, it ends when it is told to") {
  struct Trial {
    const Deed* before;
    std::vector<const Deed*> deeds;
    std::string outcome;
  };
  std::vector<Trial> trials;
  const Deed* const states[] = {nullptr, &kDeeds[2], &kDeeds[6]};  // Running, paused, stopping.
  for (const Deed* const state : states) {
    // Pairs that leave the server as it is share one; one that stops is left so by all but a second signal.
    std::vector<const Deed*> lasting;
    const bool is_stopping = state != nullptr && state->ends;
    const auto lasts = [&](const Deed& deed) { return is_stopping ? deed.name != std::string("SIGTERM") : !deed.ends; };
    for (const Deed& first : kDeeds)
      for (const Deed& second : kDeeds) {
        if (lasts(first) && lasts(second)) {
          lasting.insert(lasting.end(), {&first, &second});
        } else {
          trials.push_back({state, {&first, &second}, ""});
        }
      }
    trials.push_back({state, lasting, ""});
  }
  std::atomic<std::size_t> next{0};
  std::vector<std::thread> threads;
  for (int i = 0; i < 6; ++i)
    threads.emplace_back([&] {
      for (std::size_t at = 0; (at = next++) < trials.size();)
        trials[at].outcome = outcome_of_deeds(trials[at].before, trials[at].deeds);
    });
  for (std::thread& thread : threads) thread.join();
  for (const Trial& trial : trials) {
    CAPTURE(trial.before == nullptr ? "running" : trial.before->name, trial.deeds[0]->name, trial.deeds[1]->name);
    CHECK(trial.outcome == "");
  }
}

TEST_CASE("nothing is changed while a server stops, and that is said") {
  Steerable server("[limits]\nstop-time = 5\n");
  Connection waiting(server.port());
  waiting.send("GET /cgi-bin/slow HTTP/1.1\r\nHost: localhost\r\n\r\n");
  CHECK(eventually([&] { return has(server.call("GET", "/v1/status").body, "cgi-bin/slow"); }));
  CHECK(server.call("POST", "/v1/stop").status == 202);
  const std::string before = file_text(server.settings_file());
  for (const auto& [method, target, body] :
       std::vector<std::array<std::string, 3>>{{"POST", "/v1/reload", ""},
                                               {"POST", "/v1/pause", ""},
                                               {"POST", "/v1/resume", ""},
                                               {"POST", "/v1/restart", ""},
                                               {"PATCH", "/v1/sites/tides", R"({"hosts":["other.localhost"]})"}}) {
    CAPTURE(target);
    const Response response = server.call(method, target, body);
    CHECK(response.status == 409);
    CHECK(has(response.body, "stopping"));
  }
  CHECK(file_text(server.settings_file()) == before);
  CHECK(waiting.receive().body == "slow");
  CHECK(server.program().wait() == 0);
}

TEST_CASE("a name that is not UTF-8 is told as far as it can be") {
  TempFolder folder;
  const std::string root = folder.path() + "/k\xe4then";
  std::filesystem::create_directory(root);
  std::ofstream(root + "/a.txt") << "fine";
  Server server(root, {}, {"HOME=" + folder.path(), "XDG_RUNTIME_DIR=" + folder.path() + "/state"});
  CHECK(get(server.port(), "/a.txt").body == "fine");
  const std::string socket = control_socket(folder);
  for (const char* const target : {"/v1/status", "/v1/sites", "/v1/exchanges", "/v1/tree?site=k%E4then&path=/"}) {
    CAPTURE(target);
    const Response response = call(socket, "GET", target);
    CHECK(response.status == 200);
    CHECK(has(response.body, "k\xef\xbf\xbdthen"));
  }
  CHECK(server.stop() == 0);
}

TEST_CASE("what does not answer holds up neither other calls nor the end, and who waits for it may leave") {
  Steerable server;
  // Reading the settings waits for a writer that never comes, as on a mount whose server is gone.
  const std::string file = server.settings_file();
  REQUIRE(::mkfifo((file + ".pipe").c_str(), 0600) == 0);
  std::filesystem::rename(file + ".pipe", file);
  std::vector<std::unique_ptr<Connection>> waiting;
  for (int i = 0; i < 10; ++i) {
    waiting.push_back(std::make_unique<Connection>(server.socket()));
    waiting.back()->send("GET /v1/settings HTTP/1.1\r\nHost: localhost\r\n\r\n");
  }
  pause_ms(300);
  const auto begin = std::chrono::steady_clock::now();
  CHECK(server.call("GET", "/v1/status").status == 200);
  CHECK(server.call("GET", "/v1/exchanges").status == 200);
  CHECK(server.call("GET", "/v1/folders?path=/").status == 200);
  CHECK(std::chrono::steady_clock::now() - begin < std::chrono::seconds(5));
  CHECK(waiting.back()->receive().status == 504);
  waiting.clear();
  CHECK(server.call("GET", "/v1/folders?path=/").status == 200);
  server.program().signal(SIGTERM);
  CHECK(server.program().wait() == 0);
}

TEST_CASE("archives of large files and of pages that were compressed take no memory, and hold nobody up") {
  Steerable server("[exchanges]\nmemory = \"8 MiB\"\n", {}, {"ASAN_OPTIONS=quarantine_size_mb=1"});
  server.folder().write("pages/large.bin", std::string(3'900'000, 'l'));
  server.folder().write("pages/long.html", std::string(8'000'000, 'p'));
  for (int i = 0; i < 15; ++i) CHECK(get(server.port(), "/large.bin").status == 200);
  for (int i = 0; i < 4; ++i) CHECK(get(server.port(), "/long.html", "Accept-Encoding: gzip\r\n").status == 200);
  const long before = resident_kib(server.program().id());
  std::vector<std::thread> exports;
  std::atomic<std::size_t> bytes{0};
  std::atomic<int> left{3};
  for (int i = 0; i < 3; ++i)
    exports.emplace_back([&] {
      Connection connection(server.socket());
      connection.send("GET /v1/exchanges.har?limit=1000 HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n");
      std::string got(1 << 16, '\0');
      for (ssize_t n = 0; (n = ::recv(connection.socket(), got.data(), got.size(), 0)) > 0;)
        bytes += static_cast<std::size_t>(n);
      --left;
    });
  long most = 0;
  std::chrono::milliseconds slowest{0};
  while (left > 0) {
    most = std::max(most, resident_kib(server.program().id()));
    const auto begin = std::chrono::steady_clock::now();
    CHECK(server.call("GET", "/v1/status").status == 200);
    slowest = std::max(slowest,
                       std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::steady_clock::now() - begin));
    pause_ms(20);
  }
  for (std::thread& one : exports) one.join();
  CAPTURE(before, most, slowest.count(), bytes.load());
  CHECK(bytes > 3 * 30'000'000UL);
  // A sanitizer keeps some of what was freed; whole archives would be some hundred MiB.
  CHECK(most - before < 96 * 1024);
  CHECK(slowest < std::chrono::seconds(5));
}

TEST_CASE("the console takes so many clients, and the control socket is not theirs") {
  const std::uint16_t console = free_port();
  Steerable server("console = \"localhost:" + std::to_string(console) + "\"\n");
  std::vector<std::unique_ptr<Connection>> clients;
  for (int i = 0; i < 200; ++i) clients.push_back(std::make_unique<Connection>(console));
  CHECK(clients.back()->receive().status == 503);
  CHECK(server.call("GET", "/v1/status").status == 200);
  clients.clear();
  const std::string host = "Host: localhost:" + std::to_string(console) + "\r\n";
  CHECK(eventually([&] {
    Connection one(console);
    one.send("GET / HTTP/1.1\r\n" + host + "\r\n");
    return one.receive().status == 200;
  }));
  // And of a request with two hosts it answers neither.
  Connection both(console);
  both.send("GET / HTTP/1.1\r\n" + host + host + "\r\n");
  CHECK(both.receive().status == 400);
}

TEST_CASE("the last descriptors are left to who steers, and that they are used up is told") {
  Steerable server;
  const pid_t id = server.program().id();
  rlimit before{};
  REQUIRE(::prlimit(id, RLIMIT_NOFILE, nullptr, &before) == 0);
  const rlimit tight{100, before.rlim_max};
  REQUIRE(::prlimit(id, RLIMIT_NOFILE, &tight, nullptr) == 0);
  std::vector<std::unique_ptr<Connection>> clients;
  for (int i = 0; i < 120; ++i) clients.push_back(std::make_unique<Connection>(server.port()));
  const Response refused = clients.back()->receive();
  CHECK(refused.status == 503);
  CHECK(has(refused.body, "Too many open files"));
  const Response status = server.call("GET", "/v1/status");
  CHECK(status.status == 200);
  CHECK(has(status.body, "Too many open files"));
  CHECK(server.call("POST", "/v1/reload").status == 200);
  clients.clear();
  CHECK(eventually([&] { return get(server.port(), "/").status == 200; }));
  CHECK(eventually([&] { return !has(server.call("GET", "/v1/status").body, "Too many open files"); }));
}

TEST_CASE("a folder that was opened on the desktop stays open") {
  TempFolder programs;
  const std::string mark = programs.path() + "/mark";
  programs.write("xdg-open", "#!/bin/sh\nsleep 97 &\necho $! > " + mark + "\n", 0755);
  Steerable server("", {}, {"PATH=" + programs.path() + ":/usr/bin:/bin", "DISPLAY=:97"});
  CHECK(server.call("POST", "/v1/sites/tides/folder").status == 200);
  const pid_t process = std::atoi(file_text(mark).c_str());
  REQUIRE(process > 0);
  pause_ms(700);
  server.program().signal(SIGTERM);
  CHECK(server.program().wait() == 0);
  CHECK(::kill(process, 0) == 0);
  ::kill(process, SIGKILL);
}

TEST_CASE("the access log heeds another size at once, and has one writer for one file") {
  Steerable server("[log]\naccess = \"access.log\"\n");
  for (int i = 0; i < 3; ++i) get(server.port(), "/");
  std::string text = file_text(server.settings_file());
  const std::string file = server.folder().path() + "/access.log";
  CHECK(eventually([&] { return std::filesystem::exists(file); }));
  text.insert(text.find("access = \"access.log\"\n"), "largest = \"4 KiB\"\nolder = 1\nformat = \"json\"\n");
  server.folder().write("uporter.toml", text);
  CHECK(server.call("POST", "/v1/reload").status == 200);
  for (int i = 0; i < 60; ++i) get(server.port(), "/");
  CHECK(eventually([&] { return std::filesystem::exists(server.folder().path() + "/access.1.log"); }));
  // For a moment there is only the old one.
  CHECK(file_text(file).size() <= 4096);
  CHECK_FALSE(std::filesystem::exists(server.folder().path() + "/access.2.log"));
}

TEST_CASE("findings that stand are those of the settings as they are now") {
  Steerable server;
  std::filesystem::create_directory(server.folder().path() + "/second");
  const std::string folder = R"({"name":"second","folder":")" + server.folder().path() + R"(/second"})";
  CHECK(server.call("POST", "/v1/sites", folder).status == 201);
  std::filesystem::remove(server.folder().path() + "/second");
  CHECK(server.call("POST", "/v1/reload").status == 200);
  CHECK(has(server.call("GET", "/v1/status").body, "/second"));
  CHECK(has(server.call("GET", "/v1/status").body, "settings-folder-missing"));
  CHECK(server.call("DELETE", "/v1/sites/second").status == 200);
  CHECK_FALSE(has(server.call("GET", "/v1/status").body, "settings-folder-missing"));
}

TEST_CASE("a limit that was given as an option outlasts a reload and an edit") {
  Steerable server("", {"--limit", "body=10"});
  const auto send = [&] { return request(server.port(), "POST", "/cgi-bin/echo", "", std::string(20, '1')).status; };
  CHECK(send() == 413);
  CHECK(server.call("POST", "/v1/reload").status == 200);
  CHECK(send() == 413);
  CHECK(server.call("PATCH", "/v1/sites/tides", R"({"hosts":["localhost","tides.localhost"]})").status == 200);
  CHECK(send() == 413);
}

TEST_CASE("where the system does not tell of saved files, they are looked at, and that is told") {
  TempFolder folder;
  folder.write("pages/index.html", "a");
  const std::uint16_t port = free_port();
  const std::string settings = "addresses = [" + std::to_string(port) + "]\n[site.tides]\ndocument-root = \"pages\"\n";
  const std::string file = folder.write("uporter.toml", settings);
  Program server(
      {"unshare", "--user", "--map-root-user", "sh", "-c",
       "echo 0 > /proc/sys/user/max_inotify_instances && exec \"$@\"", "sh", built("uporterd"), "--settings", file},
      SettledServer::environment(folder));
  REQUIRE(has(server.read_until("Stop "), "Stop "));
  const std::string socket = control_socket(folder);
  CHECK(has(call(socket, "GET", "/v1/status").body, "looks twice a second"));
  Connection watching(socket);
  watching.send("GET /v1/watch?site=tides&path=/index.html HTTP/1.1\r\nHost: localhost\r\n\r\n");
  CHECK(has(watching.receive_all(std::chrono::milliseconds(300)), ": looking"));
  folder.write("pages/index.html", "another");
  CHECK(has(watching.receive_all(std::chrono::seconds(3)), "event: saved"));
  folder.write("uporter.toml", settings + "[site.second]\ndocument-root = \"pages\"\n");
  CHECK(eventually([&] { return has(call(socket, "GET", "/v1/sites").body, "second"); }));
  server.signal(SIGTERM);
  CHECK(server.wait() == 0);
}

TEST_CASE("a socket of the service manager is used again after a pause and a restart") {
  TempFolder folder;
  folder.write("pages/index.html", "fine");
  const std::uint16_t port = free_port();
  const std::string file =
      folder.write("uporter.toml", "addresses = [" + std::to_string(port) +
                                       "]\n[site.tides]\ndocument-root = \"pages\"\nhosts = [\"localhost\"]\n");
  // The manager keeps its own handle of the socket, so nobody else can open one at its port.
  const std::string manager =
      "import os, socket, sys\n"
      "s = socket.socket()\n"
      "s.bind(('127.0.0.1', int(sys.argv[1]))); s.listen(8)\n"
      "if os.fork() == 0:\n"
      "  os.dup2(s.fileno(), 3); os.set_inheritable(3, True)\n"
      "  os.environ.update(LISTEN_FDS='1', LISTEN_PID=str(os.getpid()))\n"
      "  os.execv(sys.argv[2], [sys.argv[2], '--settings', sys.argv[3]])\n"
      "_, status = os.wait()\n"
      "s.settimeout(5)\n"
      "c = socket.create_connection(('127.0.0.1', int(sys.argv[1])), 5)\n"
      "s.accept(); print('taken back', status, flush=True)\n";
  Program server({"/usr/bin/python3", "-c", manager, std::to_string(port), built("uporterd"), file},
                 SettledServer::environment(folder));
  REQUIRE(has(server.read_until("Stop "), "Stop "));
  const std::string socket = control_socket(folder);
  const auto answers = [&] {
    try {
      return get(port, "/").body == "fine";
    } catch (const std::exception&) {
      return false;
    }
  };
  CHECK(answers());
  CHECK(call(socket, "POST", "/v1/pause").status == 200);
  CHECK_FALSE(answers());
  CHECK(call(socket, "POST", "/v1/resume").status == 200);
  CHECK(eventually(answers));
  CHECK(call(socket, "POST", "/v1/restart").status == 202);
  CHECK(eventually([&] { return !socket.empty() && answers(); }));
  // Also from a pause it is given back as it was.
  CHECK(eventually([&] {
    try {
      return call(socket, "POST", "/v1/pause").status == 200;
    } catch (const std::exception&) {
      return false;
    }
  }));
  CHECK(call(socket, "POST", "/v1/stop").status == 202);
  const std::string said = server.read_until("taken back 0", std::chrono::seconds(10));
  CAPTURE(said);
  CHECK(has(said, "taken back 0"));
}
