#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <csignal>

#include "support/support.hpp"

using namespace porter::test;

namespace {

/// A port of this machine that something else listens on.
class TakenPort {
 public:
  explicit TakenPort(std::uint16_t wanted = 0) : socket_(::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0)) {
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_port = htons(wanted);
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    held_ = ::bind(socket_, reinterpret_cast<sockaddr*>(&address), sizeof address) == 0 && ::listen(socket_, 1) == 0;
    socklen_t length = sizeof address;
    ::getsockname(socket_, reinterpret_cast<sockaddr*>(&address), &length);
    port_ = std::to_string(ntohs(address.sin_port));
  }
  ~TakenPort() { ::close(socket_); }
  const std::string& port() const { return port_; }
  bool is_held() const { return held_; }

 private:
  int socket_;
  bool held_ = false;
  std::string port_;
};

Outcome run(std::vector<std::string> words, const std::vector<std::string>& environment = {}) {
  words.insert(words.begin(), built("uporter"));
  return outcome_of(words, environment);
}

}  // namespace

TEST_CASE("serve shows a folder until it is interrupted") {
  TempFolder folder;
  folder.write("index.html", "Gull Sound");
  Program program({built("uporter"), "serve", folder.path(), "--port", "0"});
  const std::string lines = program.read_until("Ctrl+C\n\n");
  const auto port = static_cast<std::uint16_t>(std::stoi(lines.substr(lines.find("localhost:") + 10)));
  CHECK(get(port, "/").body == "Gull Sound");
  CHECK(program.read_until("file\n").find("GET /") != std::string::npos);
  program.signal(SIGINT);
  CHECK(program.wait() == 0);
}

TEST_CASE("serve with the network in reach says so") {
  TempFolder folder;
  Program program({built("uporter"), "serve", folder.path(), "--port", "0", "--reach", "network"});
  CHECK(program.read_until("Ctrl+C\n\n").find("other computers in the network can reach it") != std::string::npos);
  program.signal(SIGTERM);
  CHECK(program.wait() == 0);
}

TEST_CASE("a taken port is named with its holder, or stepped over") {
  TempFolder folder;
  const TakenPort taken;
  const Outcome outcome = run({"serve", folder.path(), "--port", taken.port()});
  CHECK(outcome.status == 3);
  CHECK(outcome.output.find("Port " + taken.port() + " is taken by client_tests (process " +
                            std::to_string(::getpid())) != std::string::npos);
  CHECK(outcome.output.find("uporter serve " + folder.path() + " --port ") != std::string::npos);

  const TakenPort usual(8080);
  Program program({built("uporter"), "serve", folder.path()});
  const std::string lines = program.read_until("Ctrl+C\n\n");
  CHECK(lines.find("8080 is taken by") != std::string::npos);
  CHECK(lines.find("http://localhost:8080/") == std::string::npos);
  program.signal(SIGTERM);
  CHECK(program.wait() == 0);
}

TEST_CASE("bad use ends with one sentence and status 2") {
  TempFolder folder;
  const std::string file = folder.write("page.html", "x");
  struct Row {
    std::vector<std::string> words;
    std::string part;
  };
  for (const Row& row :
       {Row{{"serve", folder.path() + "/none"}, "There is no folder"},
        Row{{"serve", file},
            "is a file, not a folder. Serve the folder that it lies in: uporter serve " + folder.path()},
        Row{{"serve", "--settings", folder.path() + "/none.toml"}, "uporter site add NAME FOLDER"},
        Row{{"start", "--settings", folder.path() + "/none.toml"}, "not found. Create it"},
        Row{{"serve", "--port", "70000"}, "70000"}, Row{{"serve", "--reach", "moon"}, "moon"},
        Row{{"serve", "--colour"}, "--colour"}, Row{{"sail"}, "uporter"}, Row{{}, "serve"}}) {
    const Outcome outcome = run(row.words);
    CAPTURE(row.words, outcome.output);
    CHECK(outcome.status == 2);
    CHECK(outcome.output.find(row.part) != std::string::npos);
  }
}

TEST_CASE("a port below 1024 without the right to it is explained") {
  TempFolder folder;
  std::vector<std::string> words = {built("uporter"), "serve", folder.path(), "--port", "81"};
  if (::getuid() == 0) {
    words.insert(words.begin(), {"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "--inh-caps=-all",
                                 "--bounding-set=-all"});
  }
  std::string start;
  const int knob = ::open("/proc/sys/net/ipv4/ip_unprivileged_port_start", O_RDONLY | O_CLOEXEC);
  char text[16] = {};
  if (knob >= 0 && ::read(knob, text, sizeof text - 1) > 0) start = text;
  ::close(knob);
  // Some machines let everybody use every port; there is nothing to explain there.
  const bool everybody_may = std::atoi(start.c_str()) <= 81;
  Program program(words);
  const std::string lines = program.read_until(everybody_may ? "Ctrl+C\n\n" : "sysctl --system");
  if (everybody_may) {
    program.signal(SIGTERM);
    CHECK(program.wait() == 0);
  } else {
    CHECK(lines.find("Port 81 is below 1024") != std::string::npos);
    CHECK(program.wait() == 2);
  }
}

TEST_CASE("help and version are told with status 0") {
  const Outcome help = run({"serve", "--help"});
  CHECK(help.status == 0);
  CHECK(help.output.find("--reach") != std::string::npos);
  const Outcome version = run({"--version"});
  CHECK(version.status == 0);
  CHECK(version.output.starts_with("uporter "));
}

TEST_CASE("a folder is served with a fallback, and what serve would not go by is told") {
  TempFolder folder;
  folder.write("project/public/index.php", "<?= 'front ', $_SERVER['REQUEST_URI'];");
  folder.write("project/uporter.toml", "addresses = [0]\n");
  const std::string project = folder.path() + "/project";
  // The script may be named from the document root, or by any path that leads to it.
  for (const std::string& named : {std::string("index.php"), project + "/public/index.php"}) {
    CAPTURE(named);
    Program program({built("uporter"), "serve", project + "/public", "--port", "0", "--fallback", named});
    const std::string lines = program.read_until("Ctrl+C\n\n");
    const auto port = static_cast<std::uint16_t>(std::stoi(lines.substr(lines.find("localhost:") + 10)));
    CHECK(get(port, "/boats/3").body == "front /boats/3");
    program.signal(SIGTERM);
    CHECK(program.wait() == 0);
  }
  CHECK(run({"serve", project + "/public", "--fallback", "none.php"}).status == 2);
  const Outcome dropped = run({"serve", "--settings", project + "/uporter.toml", "--port", "8090"});
  CHECK(dropped.status == 2);
  CHECK(has(dropped.output, "--settings cannot be combined with --port"));
  Program beside({built("uporter"), "serve", project, "--port", "0", "--reach", "network"});
  const std::string lines = beside.read_until("Ctrl+C\n\n");
  CHECK(has(lines, "uporter.toml is not read"));
  CHECK(has(lines, "uporter serve --settings " + project + "/uporter.toml"));
  // Of a machine that has an address in a network, it is told.
  const std::string addresses = outcome_of({"hostname", "-I"}).output;
  const std::string first = addresses.substr(0, addresses.find_first_of(" \n"));
  if (!first.empty() && !has(first, ":")) CHECK(has(lines, "Other devices  http://" + first + ":"));
  beside.signal(SIGTERM);
  CHECK(beside.wait() == 0);
}
