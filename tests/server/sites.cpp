// Several sites on one server: what their settings change in a response.
#include <catch2/catch.hpp>
#include <csignal>

#include "support/support.hpp"

using namespace porter::test;

namespace {

/// A server on settings with two sites and what they can change.
struct Harbour {
  TempFolder folder;
  std::uint16_t port = free_port();
  std::string file;

  Harbour() {
    folder.write("a/index.html", "site a");
    folder.write("a/lost.html", "<p>lost at sea");
    folder.write("a/tides.gull",
                 "print \"Content-Type: text/plain\\n\\n$ENV{SEASON} $ENV{TABLE} $ENV{GATEWAY_INTERFACE}\"");
    folder.write("a/slow.gull", "sleep 20");
    folder.write("a/cgi-bin/which", "#!/bin/sh\nprintf \"Content-Type: text/plain\\n\\n$SERVER_NAME:$SERVER_PORT\"\n",
                 0755);
    folder.write("b/index.html", "site b");
    folder.write("b/front.php",
                 "<?= $_SERVER['SCRIPT_NAME'], ' ', $_SERVER['REQUEST_URI'], ' ', $_SERVER['PATH_INFO'] ?? '-' ?>");
    folder.write("papers/log.txt", "calm");
    file = folder.write("uporter.toml", "addresses = " + std::to_string(port) + R"(
[site.a]
document-root = "a"
hosts = ["a.localhost"]
environment = { SEASON = "winter", GATEWAY_INTERFACE = "none" }
[site.a.response-headers]
X-Harbour = "Skerry Head"
Cache-Control = "max-age=60"
[site.a.problem-pages]
404 = "lost.html"
[site.a.mounts]
"/papers" = "papers"
[site.b]
document-root = "b"
hosts = ["b.localhost", "*.b.localhost"]
fallback = "front.php"
[interpreter.Gull]
endings = ".gull"
command = ["perl", "-w"]
anywhere = true
limits = { first-byte = 1 }
environment = { TABLE = "short", SEASON = "summer" }
)");
  }
  std::vector<std::string> environment() const {
    return {"HOME=" + folder.path(), "XDG_STATE_HOME=" + folder.path(), "XDG_RUNTIME_DIR=", "NOTIFY_SOCKET="};
  }
  Response ask(const std::string& host, const std::string& target, const std::string& version = "1.1") const {
    Connection connection(port);
    connection.send("GET " + target + " HTTP/" + version + (host.empty() ? "" : "\r\nHost: " + host) + "\r\n\r\n");
    return connection.receive();
  }
};

}  // namespace

TEST_CASE("each site answers in its own way") {
  const Harbour harbour;
  Program server({built("uporterd"), "--settings", harbour.file}, harbour.environment());
  REQUIRE(server.read_until("Ctrl+C\n\n").find("Ctrl+C") != std::string::npos);
  for (int round = 0; round < 2; ++round) {
    // The second time from the cache, which must not mix up the sites.
    CHECK(harbour.ask("a.localhost", "/").body == "site a");
    CHECK(harbour.ask("b.localhost", "/").body == "site b");
    CHECK(harbour.ask("x.b.localhost", "/").body == "site b");
    CHECK(harbour.ask("localhost", "/").body == "site a");
    CHECK(harbour.ask("", "/", "1.0").body == "site a");
    pause_ms(2100);
  }
  Connection both(harbour.port);
  for (const std::string& site : std::vector<std::string>{"a", "b", "a", "b", "b", "a"}) {
    both.send("GET / HTTP/1.1\r\nHost: " + site + ".localhost\r\n\r\n");
    CHECK(both.receive().body == "site " + site);
  }
  CHECK(harbour.ask("c.localhost", "/").status == 421);
  CHECK(harbour.ask("c.localhost", "/").body.find("a.localhost, b.localhost, *.b.localhost") != std::string::npos);

  const Response page = harbour.ask("a.localhost", "/");
  CHECK(page.field("x-harbour") == "Skerry Head");
  CHECK(page.field("cache-control") == "max-age=60");
  CHECK(page.fields.count("cache-control") == 1);
  CHECK(harbour.ask("b.localhost", "/").field("x-harbour").empty());
  const Response lost = harbour.ask("a.localhost", "/none");
  CHECK(lost.status == 404);
  CHECK(lost.body == "<p>lost at sea");
  CHECK(lost.field("x-harbour") == "Skerry Head");
  CHECK(harbour.ask("a.localhost", "/papers/log.txt").body == "calm");
  // What the request decides comes before settings, and a site before an interpreter.
  CHECK(harbour.ask("a.localhost", "/tides.gull").body == "winter short CGI/1.1");
  CHECK(harbour.ask("a.localhost", "/cgi-bin/which").body == "a.localhost:" + std::to_string(harbour.port));
  CHECK(harbour.ask("a.localhost", "/slow.gull").status == 504);
  CHECK(harbour.ask("b.localhost", "/bookings/12?x=1").body == "/front.php /bookings/12?x=1 -");
  server.signal(SIGTERM);
  CHECK(server.wait() == 0);
}

TEST_CASE("a socket that the service manager has opened is taken over") {
  const Harbour harbour;
  const std::string program =
      "import os, socket, sys\n"
      "s = socket.socket(); s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)\n"
      "s.bind(('127.0.0.1', int(sys.argv[1]))); s.listen(8)\n"
      "c = socket.create_connection(('127.0.0.1', int(sys.argv[1]))); c.send(b'GET / HTTP/1.0\\r\\n\\r\\n')\n"
      "os.dup2(s.fileno(), 3); os.set_inheritable(3, True)\n"
      "os.environ.update(LISTEN_FDS='1', LISTEN_PID=str(os.getpid()))\n"
      "os.execv(sys.argv[2], [sys.argv[2], '--settings', sys.argv[3]])\n";
  Program server({"/usr/bin/python3", "-c", program, std::to_string(harbour.port), built("uporterd"), harbour.file},
                 harbour.environment());
  // The request came before the server was there.
  CHECK(server.read_until("GET /").find("GET /") != std::string::npos);
  CHECK(harbour.ask("a.localhost", "/").body == "site a");
  server.signal(SIGTERM);
  CHECK(server.wait() == 0);
}
