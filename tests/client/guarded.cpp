// Commands that are called with what they do not expect, or ended at a bad moment: no exception leaves one, and nothing
// that it has started outlives it.
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <catch2/catch.hpp>
#include <csignal>
#include <sstream>

#include "support/support.hpp"

using namespace porter::test;

TEST_CASE("a folder where a file is wanted is told, with the exit status of a wrong call") {
  TempFolder folder;
  folder.write("pages/index.html", "<p>Kittiwake</p>");
  folder.write("pages/cgi-bin/a.sh", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\na'\n", 0755);
  SettledServer server(folder,
                       "addresses = [PORT]\n[site.tides]\ndocument-root = \"pages\"\nhosts = [\"localhost\"]\n");
  CHECK(get(server.port(), "/").status == 200);
  const std::string settings = folder.path() + "/uporter.toml";
  for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{
           {"compare", folder.path(), folder.path()},
           {"again", "1", "--body", folder.path()},
           {"rehearse", folder.path() + "/pages/cgi-bin/a.sh", "--body", folder.path()}}) {
    std::vector<std::string> all = words;
    all.insert(all.begin(), built("uporter"));
    all.insert(all.end(), {"--settings", settings});
    const Outcome outcome = outcome_of(all, SettledServer::environment(folder));
    CAPTURE(words.front(), outcome.output);
    CHECK(outcome.status == 2);
    CHECK(has(outcome.output, "is a folder. Name a file."));
  }
}

TEST_CASE("a rehearsal that is ended takes all with it that its script has started") {
  for (const int signal : {SIGINT, SIGTERM, SIGHUP, SIGKILL}) {
    CAPTURE(signal);
    TempFolder folder;
    const std::string mark = folder.path() + "/processes";
    const std::string script =
        folder.write("cgi-bin/long",
                     "#!/bin/sh\nsleep 97 & echo $! >> " + mark + "\nsetsid sleep 97 & echo $! >> " + mark +
                         "\necho $$ >> " + mark + "\nsleep 97\n",
                     0755);
    Program rehearsal({built("uporter"), "rehearse", script}, SettledServer::environment(folder));
    REQUIRE(eventually([&] {
      const std::string text = file_text(mark);
      return std::count(text.begin(), text.end(), '\n') == 3;
    }));
    std::istringstream lines(file_text(mark));
    std::vector<pid_t> processes;
    for (pid_t id = 0; lines >> id;) processes.push_back(id);
    rehearsal.signal(signal);
    CHECK(rehearsal.wait() == -signal);
    for (const pid_t id : processes) CHECK(eventually([&] { return ::kill(id, 0) != 0; }));
  }
}

namespace {

/// Runs a command as a person does who pastes it into a terminal: the shell is interactive, and is told by the terminal
/// where what is pasted ends.
const char* const kPaste = R"(
import os, pty, select, sys, time
command = open(sys.argv[1], 'rb').read().rstrip(b'\n')
child, terminal = pty.fork()
if child == 0:
    os.environ.update(TERM='xterm', PS1='READY$ ', INPUTRC='/dev/null')
    os.execv('/bin/bash', ['bash', '--norc', '--noprofile', '-i'])
def read(until, seconds):
    got, end = b'', time.time() + seconds
    while time.time() < end and until not in got:
        if select.select([terminal], [], [], 0.1)[0]:
            try: got += os.read(terminal, 65536)
            except OSError: break
    return got
read(b'READY$ ', 10)
os.write(terminal, b'\x1b[200~' + command + b'\x1b[201~')
read(b'curl', 1)
os.write(terminal, b"\necho D'O'NE\n")
read(b'DONE', 10)
os.write(terminal, b'exit\n')
)";

}  // namespace

TEST_CASE(
    "the command for curl sends the same bytes, from every shell and from what is pasted, and runs nothing else") {
  struct Row {
    const char* name;
    std::string request;
  };
  TempFolder folder;
  folder.write("pages/index.html", "<p>Kittiwake</p>");
  folder.write("pages/cgi-bin/echo", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n'; cat\n", 0755);
  const std::string ran = folder.path() + "/ran";
  SettledServer server(folder, "addresses = [PORT]\n[site.tides]\ndocument-root = \"pages\"\nhosts = [\"*\"]\n");
  const std::string socket = control_socket(folder);
  const std::string host = "Host: localhost:" + std::to_string(server.port()) + "\r\n";
  const auto post = [&](const std::string& body) {
    return "POST /cgi-bin/echo HTTP/1.1\r\n" + host +
           "Content-Type: text/plain\r\nContent-Length: " + std::to_string(body.size()) + "\r\n\r\n" + body;
  };
  const std::string evil = "\x03\x1b[201~\ntouch " + ran + "\n";
  const std::vector<Row> rows = {
      {"plain", "GET /?a=b HTTP/1.1\r\n" + host + "\r\n"},
      {"quotes", post("it's \"$(touch " + ran + ")\" `touch " + ran + "` \\ % %s 100%")},
      {"controls in a body", post(evil)},
      {"a body that begins with a dash", post("-v x" + evil)},
      {"a body that begins with @", post("@/etc/hostname")},
      {"zero bytes", post(std::string("a\0b\0", 4))},
      {"not UTF-8", post("\xff\xfe\n\n")},
      {"controls in a target", "GET /\x03\x1b[201~;touch%20" + ran + " HTTP/1.1\r\n" + host + "\r\n"},
      {"a target like an option", "GET -oFILE HTTP/1.1\r\n" + host + "\r\n"},
      {"an absolute target", "GET http://other.invalid/?x HTTP/1.1\r\n" + host + "Cookie: a=b\r\n\r\n"},
      {"a foreign host", "GET / HTTP/1.1\r\nHost: other.invalid\r\nCookie: a=b\r\n\r\n"},
      {"no host", "GET / HTTP/1.0\r\n\r\n"},
      {"an asterisk", "OPTIONS * HTTP/1.1\r\n" + host + "\r\n"},
      {"HEAD with a body", "HEAD /cgi-bin/echo HTTP/1.1\r\n" + host + "Content-Length: 3\r\n\r\nabc"},
      {"controls in a field", "GET / HTTP/1.1\r\n" + host + "X-Note: it's \x1b[201~\x7f\r\n\r\n"}};
  int number = 0;
  for (const Row& row : rows) {
    CAPTURE(row.name);
    {
      Connection connection(server.port());
      connection.send(row.request);
      connection.receive(row.request.starts_with("HEAD"));
    }
    const int sent = ++number;
    const auto request_of = [&](int which) {
      return call(socket, "GET", "/v1/exchanges/" + std::to_string(which) + "/request").body;
    };
    REQUIRE(eventually([&] { return request_of(sent) == row.request; }));
    const std::string command = call(socket, "GET", "/v1/exchanges/" + std::to_string(sent) + "/curl").body;
    CAPTURE(command);
    CHECK(command.find_first_of("\x03\x1b\x7f") == command.npos);
    const std::string file = folder.write("command", command);
    for (const std::vector<std::string>& way :
         std::vector<std::vector<std::string>>{{"dash", file}, {"bash", file}, {"python3", "-c", kPaste, file}}) {
      CAPTURE(way.front());
      outcome_of(way, {"HOME=" + folder.path()});
      const int again = ++number;
      // curl writes names of its own and their order; what counts is the line, the body, and where it went.
      std::string came;
      CHECK(eventually([&] { return !(came = request_of(again)).empty() && !has(came, "\"findings\""); }));
      CAPTURE(came);
      CHECK(came.substr(0, came.find("\r\n")) == row.request.substr(0, row.request.find("\r\n")));
      CHECK(came.substr(came.find("\r\n\r\n")) == row.request.substr(row.request.find("\r\n\r\n")));
      for (const char* const field : {"Host: ", "Cookie: ", "X-Note: "}) {
        const auto value = [&](const std::string& in) {
          const std::size_t at = in.find(field);
          return at == in.npos ? "" : in.substr(at, in.find("\r\n", at) - at);
        };
        CHECK(value(came) == value(row.request));
      }
    }
    CHECK(file_text(ran).empty());
    CHECK(::access(ran.c_str(), F_OK) != 0);
  }
}

TEST_CASE("the console's key is in no list of processes when it is opened") {
  TempFolder folder;
  folder.write("pages/index.html", "<p>Kittiwake</p>");
  const std::string words = folder.path() + "/words";
  folder.write("bin/xdg-open", "#!/bin/sh\nprintf '%s ' \"$@\" > " + words + "\n", 0755);
  SettledServer server(folder, "addresses = [PORT]\nconsole = \"localhost:" + std::to_string(free_port()) +
                                   "\"\n[site.tides]\ndocument-root = \"pages\"\n");
  auto environment = SettledServer::environment(folder);
  environment.insert(environment.end(), {"DISPLAY=:97", "PATH=" + folder.path() + "/bin:/usr/bin:/bin"});
  const Outcome opened =
      outcome_of({built("uporter"), "open", "console", "--settings", folder.path() + "/uporter.toml"}, environment);
  CHECK(opened.status == 0);
  const std::size_t key = opened.output.find("#key=");
  REQUIRE(key != std::string::npos);
  const std::string secret = opened.output.substr(key + 5, 64);
  REQUIRE(eventually([&] { return !file_text(words).empty(); }));
  const std::string given = file_text(words);
  CHECK_FALSE(has(given, secret));
  const std::string page = given.substr(0, given.find(' '));
  CHECK(has(file_text(page), secret));
  struct stat info {};
  REQUIRE(::stat(page.c_str(), &info) == 0);
  CHECK((info.st_mode & 0777) == 0600);
}
