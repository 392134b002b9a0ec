// Other programs that speak FastCGI: in C, in Perl, PHP's own process manager behind `workers`, and peers that break
// the protocol in every way.
#include <arpa/inet.h>
#include <netinet/in.h>
#include <signal.h>
#include <sys/socket.h>
#include <unistd.h>

#include <atomic>
#include <catch2/catch.hpp>
#include <filesystem>
#include <fstream>
#include <memory>
#include <set>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;

namespace {

std::string site_with(const std::string& interpreter) {
  return "addresses = [PORT]\n[site.quay]\ndocument-root = \"pages\"\nhosts = [\"localhost\"]\n"
         "[limits]\nfirst-byte = 2\n[interpreter." +
         interpreter;
}

std::string code_in(const Response& response) {
  const std::size_t begin = response.body.find(" (");
  return response.status < 400 || begin == std::string::npos
             ? ""
             : response.body.substr(begin + 2, response.body.find(')', begin) - begin - 2);
}

std::string record(int type, int request, const std::string& content) {
  return std::string{'\1',
                     static_cast<char>(type),
                     '\0',
                     static_cast<char>(request),
                     static_cast<char>(content.size() >> 8),
                     static_cast<char>(content.size()),
                     '\0',
                     '\0'} +
         content;
}

/// A worker that reads a request and then says what it is told to say, whatever that is.
class Fake {
 public:
  enum class Then { closes, hangs };
  Fake(std::string says, Then then)
      : says_(std::move(says)), then_(then), listener_(::socket(AF_INET, SOCK_STREAM, 0)) {
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t size = sizeof address;
    REQUIRE(::bind(listener_, reinterpret_cast<sockaddr*>(&address), size) == 0);
    REQUIRE(::listen(listener_, 16) == 0);
    ::getsockname(listener_, reinterpret_cast<sockaddr*>(&address), &size);
    port_ = ntohs(address.sin_port);
    thread_ = std::thread([this] { serve(); });
  }
  ~Fake() {
    is_over_ = true;
    ::shutdown(listener_, SHUT_RDWR);
    thread_.join();
    ::close(listener_);
  }
  std::string address() const { return "127.0.0.1:" + std::to_string(port_); }
  int connections() const { return connections_; }

 private:
  void serve() {
    std::vector<int> held;
    while (!is_over_) {
      const int client = ::accept(listener_, nullptr, nullptr);
      if (client < 0) continue;
      ++connections_;
      char buffer[65536];
      if (::recv(client, buffer, sizeof buffer, 0) > 0) ::send(client, says_.data(), says_.size(), MSG_NOSIGNAL);
      if (then_ == Then::closes) {
        ::shutdown(client, SHUT_WR);
        while (::recv(client, buffer, sizeof buffer, 0) > 0) {
        }
        ::close(client);
      } else {
        held.push_back(client);
      }
    }
    for (const int client : held) ::close(client);
  }

  const std::string says_;
  const Then then_;
  int listener_;
  std::uint16_t port_ = 0;
  std::atomic<bool> is_over_{false};
  std::atomic<int> connections_{0};
  std::thread thread_;
};

}  // namespace

TEST_CASE("a program in C that speaks FastCGI is kept") {
  TempFolder folder;
  const std::string file = folder.write("pages/north.tide", "07:40");
  SettledServer server(folder,
                       site_with("Tide]\nendings = [\".tide\"]\nanywhere = true\npersistent = true\nprocesses = 1\n"
                                 "command = \"" +
                                 built("tides_peer") + "\"\n"));
  const auto ask = [&](const std::string& query, const std::string& body = "") {
    return request(server.port(), body.empty() ? "GET" : "POST", "/north.tide?" + query,
                   body.empty() ? "" : "Content-Type: text/plain\r\n", body);
  };
  const std::string first = ask("").body;
  CHECK(first.starts_with(file + " "));
  CHECK(first.ends_with(" 1 0"));
  // Whether it reads what it is sent or not, the next request finds it as it was.
  CHECK(ask("", std::string(200000, 'k')).body.ends_with(" 2 200000"));
  CHECK(ask("unread", std::string(200000, 'k')).body.ends_with(" 3 0"));
  CHECK(ask("").body.ends_with(" 4 0"));
  CHECK(ask("error").body.ends_with(" 5 0"));
  CHECK(ask("aside").body.ends_with(" 6 0"));
  CHECK(ask("status").status == 200);
  CHECK(ask("").body.ends_with(" 8 0"));
  // One that closes its connection behind a response reads nothing of what was sent meanwhile.
  CHECK(ask("closes").body.ends_with(" 9 0"));
  std::this_thread::sleep_for(std::chrono::milliseconds(20));
  CHECK(ask("").body.ends_with(" 10 0"));
  struct Row {
    std::string query;
    std::string code;
  };
  for (const Row& row : {Row{"crash", "script-killed"}, Row{"exit", "script-failed"}, Row{"hang", "script-too-slow"}}) {
    CAPTURE(row.query);
    CHECK(code_in(ask(row.query)) == row.code);
    CHECK(ask("").body.ends_with(" 1 0"));
  }
  const Response half = ask("half");
  CHECK((half.status == 500 || !half.whole));
  CHECK(ask("").body.ends_with(" 1 0"));
  server.program().signal(SIGTERM);
  const std::string log = server.program().output();
  CHECK(server.program().wait() == 0);
  for (const std::string& said :
       {std::string("the gauge is stuck"), std::string("no tide table"), std::string("persistent tides_peer ")})
    CHECK(has(log, said));
}

TEST_CASE("a program that ends behind a response loses no request that has come meanwhile") {
  TempFolder folder;
  folder.write("pages/north.tide", "07:40");
  SettledServer server(folder,
                       site_with("Tide]\nendings = [\".tide\"]\nanywhere = true\npersistent = true\nprocesses = 1\n"
                                 "command = \"" +
                                 built("tides_peer") + "\"\n"));
  Connection connection(server.port());
  const auto ask = [&](const std::string& query) {
    connection.send("GET /north.tide?" + query + " HTTP/1.1\r\nHost: localhost\r\n\r\n");
    return connection.receive();
  };
  for (int i = 0; i < 10; ++i) {
    CHECK(ask("").body.ends_with(" 1 0"));
    // Long enough for the connection to be taken for one that stays.
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
    CHECK(ask("last").body.ends_with(" 2 0"));
  }
  CHECK(server.stop() == 0);
}

TEST_CASE("a program in Perl that speaks FastCGI is kept, and replaced when it is edited") {
  TempFolder folder;
  folder.write("pages/winter.fares", "3.20");
  const auto program = [](const std::string& word) {
    return "use FCGI;\nmy $request = FCGI::Request();\nwhile ($request->Accept() >= 0) {\n"
           "  my $body = ''; read(STDIN, $body, $ENV{CONTENT_LENGTH} // 0);\n  warn \"fog\\n\" if $ENV{QUERY_STRING} "
           "eq 'fog';\n"
           "  die \"no fares\\n\" if $ENV{QUERY_STRING} eq 'die';\n"
           "  print \"Content-Type: text/plain\\r\\n\\r\\n" +
           word + " \" . length($body) . \" $ENV{SCRIPT_NAME}\";\n}\n";
  };
  const std::string path = folder.write("programs/fares.pl", program("one"));
  SettledServer server(folder, site_with("Fares]\nendings = [\".fares\"]\nanywhere = true\npersistent = true\n"
                                         "command = [\"perl\", \"" +
                                         path + "\"]\n"));
  const auto ask = [&](const std::string& query) {
    return request(server.port(), "POST", "/winter.fares?" + query, "Content-Type: a/b\r\n", std::string(70000, 'k'));
  };
  CHECK(ask("").body == "one 70000 /winter.fares");
  CHECK(ask("fog").body == "one 70000 /winter.fares");
  CHECK(ask("die").status >= 500);
  CHECK(ask("").body == "one 70000 /winter.fares");
  folder.write("programs/fares.pl", program("two"));
  CHECK(ask("").body == "two 70000 /winter.fares");
  CHECK(server.stop() == 0);
}

TEST_CASE("PHP's own process manager answers behind workers, and those that are down are left out") {
  TempFolder folder;
  std::filesystem::permissions(folder.path(), std::filesystem::perms(0755));
  folder.write("pages/a.php",
               "<?php echo 'Kittiwake ', ini_get('precision'), ' ', strlen(file_get_contents('php://input'));");
  folder.write("pages/fatal.php", "<?php\nno_such_function();\n");
  folder.write("pages/finish.php",
               "<?php echo 'done'; fastcgi_finish_request(); usleep(300000); touch('" + folder.path() + "/after');");
  folder.write("pages/die.php", "<?php posix_kill(getmypid(), 9); sleep(3);");
  folder.write("pages/edit.php", "<?php echo include 'part.inc';");
  folder.write("pages/part.inc", "<?php return 'one';");
  const std::string socket = folder.path() + "/fpm.sock";
  const std::string port = std::to_string(free_port());
  const std::string pool = "user = root\ngroup = root\npm = static\npm.max_children = 2\n";
  const std::string conf =
      folder.write("fpm.conf", "[global]\nerror_log = " + folder.path() + "/fpm.log\ndaemonize = no\n[a]\n" + pool +
                                   "listen = " + socket + "\n[b]\n" + pool + "listen = 127.0.0.1:" + port + "\n");
  // As another user than root it takes neither a user nor the leave to be root.
  std::vector<std::string> words = {"/usr/sbin/php-fpm8.2", "-F", "-y", conf};
  if (::geteuid() == 0) words.emplace_back("-R");
  Program manager(words);
  REQUIRE(eventually([&] { return std::filesystem::exists(socket); }));
  SettledServer server(folder,
                       site_with("PHP]\nexternal = [\"unix:" + socket + "\", \"127.0.0.1:" + port +
                                 "\", \"127.0.0.1:1\", \"unix:/no/such.sock\"]\nsettings = { precision = 9 }\n"));
  for (int i = 0; i < 12; ++i) CHECK(get(server.port(), "/a.php").body == "Kittiwake 9 0");
  CHECK(request(server.port(), "POST", "/a.php", "Content-Type: a/b\r\n", std::string(300000, 'k')).body ==
        "Kittiwake 9 300000");
  const Response fatal = get(server.port(), "/fatal.php");
  CHECK(code_in(fatal) == "script-error");
  CHECK(has(fatal.body, "line 2"));
  CHECK(get(server.port(), "/finish.php").body == "done");
  CHECK(!std::filesystem::exists(folder.path() + "/after"));
  CHECK(eventually([&] { return std::filesystem::exists(folder.path() + "/after"); }));
  CHECK(code_in(get(server.port(), "/die.php")) == "fastcgi-closed");
  CHECK(get(server.port(), "/edit.php").body == "one");
  pause_ms(3100);
  for (int i = 0; i < 8; ++i) CHECK(get(server.port(), "/edit.php").body == "one");
  folder.write("pages/part.inc", "<?php return 'two';");
  for (int i = 0; i < 8; ++i) CHECK(get(server.port(), "/edit.php").body == "two");
  // A rehearsal asks the same workers.
  const Outcome rehearsed = outcome_of(
      {built("uporter"), "rehearse", folder.path() + "/pages/a.php", "--settings", folder.path() + "/uporter.toml"},
      SettledServer::environment(folder));
  CHECK(has(rehearsed.output, "Kittiwake 9"));
  manager.signal(SIGTERM);
  manager.wait();
  const Response none = get(server.port(), "/a.php");
  CHECK(code_in(none) == "external-unreachable");
  CHECK(has(none.body, "127.0.0.1:1: Connection refused"));
  CHECK(server.stop() == 0);
}

TEST_CASE("a worker that breaks the protocol is told of, and nothing hangs") {
  struct Row {
    std::string says;
    Fake::Then then;
    std::string code;
    std::string fact;
  };
  const std::string head = record(6, 1, "Content-Type: text/plain\r\n\r\n");
  const std::string end = record(3, 1, std::string(8, '\0'));
  const std::vector<Row> rows = {
      {"", Fake::Then::closes, "fastcgi-closed", ""},
      {"", Fake::Then::hangs, "script-too-slow", "2 seconds"},
      {"HTTP/1.1 400 Bad Request\r\n\r\n", Fake::Then::hangs, "fastcgi-broken", "HTTP/1.1 400"},
      {record(6, 2, "abc") + end, Fake::Then::hangs, "fastcgi-broken", "request 2"},
      {record(1, 1, "abc"), Fake::Then::hangs, "fastcgi-broken", "type 1"},
      {head, Fake::Then::closes, "fastcgi-closed", ""},
      {record(6, 1, "Content-Type: text/plain\r\n"), Fake::Then::closes, "fastcgi-closed", ""},
      {head + record(3, 1, "abc"), Fake::Then::hangs, "fastcgi-broken", "3 bytes"},
      {record(3, 1, std::string("\0\0\0\0\2\0\0\0", 8)), Fake::Then::closes, "fastcgi-refused", "too much to do"},
      {record(6, 1, "X-A: " + std::string(60000, 'k')) + record(6, 1, std::string(60000, 'k')), Fake::Then::hangs,
       "response-head-too-large", "65536"},
      {end, Fake::Then::closes, "wrote-nothing", ""},
      {record(7, 1, "all is lost") + end, Fake::Then::closes, "only-error-stream", "all is lost"},
  };
  for (const Row& row : rows) {
    CAPTURE(row.code, row.fact, row.says.substr(0, 40));
    TempFolder folder;
    folder.write("pages/a.php", "");
    const Fake fake(row.says, row.then);
    SettledServer server(folder, site_with("PHP]\nexternal = \"" + fake.address() + "\"\n"));
    const auto begun = std::chrono::steady_clock::now();
    const Response response = get(server.port(), "/a.php");
    CHECK(code_in(response) == row.code);
    CHECK(has(response.body, row.fact));
    CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(5));
    CHECK(fake.connections() == 1);
    CHECK(server.stop() == 0);
  }
}

TEST_CASE("however a page is cut into records, it is passed on in its order") {
  const std::string page = numbered(600'000);
  struct Row {
    std::string name;
    std::vector<std::size_t> sizes;  ///< Of the records, over and over.
    int padding = 0;
    std::string aside{};      ///< On the error stream, behind every record.
    std::string announced{};  ///< A length, if any.
  };
  const std::vector<Row> rows = {{"large", {65535}},
                                 {"as PHP does", {65528}, 0, "", "600000"},
                                 {"padded", {65535}, 255},
                                 {"small behind large", {40000, 10}},
                                 {"large behind small", {1, 20000, 16383, 16384}},
                                 {"small", {512}},
                                 {"complaints between", {30000}, 1, "the pier is closed\n"},
                                 {"more than announced", {65535}, 0, "", "150000"}};
  for (const Row& row : rows) {
    CAPTURE(row.name);
    std::string says = record(6, 1,
                              "Content-Type: text/plain\r\n" +
                                  (row.announced.empty() ? "" : "Content-Length: " + row.announced + "\r\n") + "\r\n");
    for (std::size_t at = 0, i = 0; at < page.size(); ++i) {
      std::string one = record(6, 1, page.substr(at, row.sizes[i % row.sizes.size()]));
      at += row.sizes[i % row.sizes.size()];
      one[6] = static_cast<char>(row.padding);
      says += one + std::string(static_cast<std::size_t>(row.padding), '\0');
      if (!row.aside.empty()) says += record(7, 1, row.aside);
    }
    says += record(6, 1, "") + record(3, 1, std::string(8, '\0'));
    TempFolder folder;
    folder.write("pages/a.php", "");
    const Fake fake(says, Fake::Then::hangs);
    SettledServer server(folder, site_with("PHP]\nexternal = \"" + fake.address() + "\"\n"));
    const std::size_t length = row.announced.empty() ? page.size() : std::stoul(row.announced);
    const Response response = get(server.port(), "/a.php");
    CHECK(response.whole);
    CHECK((response.body == page.substr(0, length)));
    CHECK(request(server.port(), "HEAD", "/a.php").body.empty());
    CHECK(server.stop() == 0);
  }
}

TEST_CASE("a page that breaks off in its middle is not taken for a whole one") {
  TempFolder folder;
  folder.write("pages/a.php", "");
  const Fake fake(record(6, 1, "Content-Type: text/plain\r\n\r\n" + std::string(65000, 'k')) +
                      record(6, 1, std::string(65000, 'k')),
                  Fake::Then::closes);
  SettledServer server(folder, site_with("PHP]\nexternal = \"" + fake.address() + "\"\n"));
  const Response response = get(server.port(), "/a.php");
  CHECK((!response.whole || response.status == 502));
  CHECK(server.stop() == 0);
}
