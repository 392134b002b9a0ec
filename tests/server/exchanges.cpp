// What is kept of exchanges, held byte by byte against what a client sent and received.
#include <sys/stat.h>

#include <array>
#include <catch2/catch.hpp>
#include <filesystem>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;

namespace {

const char* const kOneSite = "[site.tides]\ndocument-root = \"pages\"\nhosts = [\"localhost\"]\n";

/// A server with a site of every kind, whose control interface is asked through its socket.
class Kept {
 public:
  explicit Kept(const std::string& settings = "", const std::string& limits = "", const std::string& sites = kOneSite)
      : folder_(), server_(filled(), settings_with(settings, limits) + sites) {}

  std::uint16_t port() const { return server_.port(); }
  /// What its end comes to: a sanitizer that has found something makes that other than 0.
  int stop() { return server_.stop(); }
  Program& program() { return server_.program(); }
  const TempFolder& folder() const { return folder_; }

  /// The body of a call's reply, exactly.
  std::string ask(const std::string& call, const std::vector<std::string>& options = {}) const {
    std::vector<std::string> words = {"curl", "-s", "--unix-socket", socket(), "http://x/v1/" + call};
    words.insert(words.end(), options.begin(), options.end());
    return outcome_of(words).output;
  }
  std::string part(int number, const std::string& name) const {
    return ask("exchanges/" + std::to_string(number) + "/" + name);
  }
  std::string json(int number) const { return ask("exchanges/" + std::to_string(number)); }
  std::string socket() const {
    for (const auto& entry : std::filesystem::recursive_directory_iterator(folder_.path() + "/state"))
      if (entry.is_socket()) return entry.path();
    return "";
  }
  /// Sends `bytes` on a connection of its own; everything that comes back.
  std::string send(const std::string& bytes) const {
    Connection connection(port());
    connection.send(bytes);
    return connection.receive_all();
  }

 private:
  static std::string settings_with(const std::string& more, const std::string& limits) {
    return "addresses = [PORT]\n" + more + "[limits]\nhead-time = 1\nfirst-byte = 2\n" + limits;
  }
  TempFolder& filled() {
    const std::string begin = "#!/bin/sh\n";
    folder_.write("pages/index.html", "<p>Kittiwake</p>");
    folder_.write("pages/a.txt", "gulls on the quay");
    folder_.write("pages/large.bin", std::string(300'000, 'l'));
    folder_.write("pages/style.css", std::string(5000, 's'));
    folder_.write("pages/list/b.txt", "x");
    folder_.write("pages/cgi-bin/echo", begin + "printf 'Content-Type: text/plain\\n\\nran '; cat\n", 0755);
    folder_.write("pages/cgi-bin/nph-x", begin + "printf 'HTTP/1.1 299 Ahoy\\r\\nX: y\\r\\n\\r\\nhello'\n", 0755);
    folder_.write("pages/cgi-bin/local", begin + "printf 'Location: /a.txt\\n\\n'\n", 0755);
    folder_.write("pages/cgi-bin/away", begin + "printf 'Location: http://quay.test/\\n\\n'\n", 0755);
    folder_.write("pages/cgi-bin/fails", begin + "echo fog >&2; exit 3\n", 0755);
    folder_.write(
        "pages/cgi-bin/cut",
        begin + "printf 'Content-Type: text/plain\\nContent-Length: 900000\\n\\n'; head -c 200000 /dev/zero\n", 0755);
    folder_.write(
        "pages/cgi-bin/stream",
        begin + "printf 'Content-Type: text/event-stream\\n\\n'; for i in 1 2 3; do echo data: $i; sleep 0.4; done\n",
        0755);
    return folder_;
  }

  TempFolder folder_;
  SettledServer server_;
};

std::string lines(const std::string& first, const std::string& more = "") {
  return first + " HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n" + more + "\r\n";
}

}  // namespace

TEST_CASE("of each kind of response the bytes are kept as they went over the wire") {
  Kept kept;
  struct Row {
    const char* name;
    std::string request;
    int status;
    std::string told;  ///< Stands in what is told of the exchange.
  };
  const std::vector<Row> rows = {
      {"file", lines("GET /a.txt"), 200, "\"kind\":\"file\""},
      {"file again", lines("GET /a.txt"), 200, "\"kind\":\"file\""},
      {"file by sendfile", lines("GET /large.bin"), 200, "/large.bin"},
      {"its head alone", lines("HEAD /large.bin"), 200, "\"kind\":\"file\""},
      {"compressed", lines("GET /style.css", "Accept-Encoding: gzip\r\n"), 200, "gzip"},
      {"range", lines("GET /large.bin", "Range: bytes=5-70000\r\n"), 206, "\"kind\":\"file\""},
      {"ranges", lines("GET /a.txt", "Range: bytes=0-1,4-5\r\n"), 206, "\"kind\":\"file\""},
      {"bad range", lines("GET /a.txt", "Range: bytes=900-\r\n"), 416, "range-not-satisfiable"},
      {"not modified", lines("GET /a.txt", "If-None-Match: *\r\n"), 304, "304"},
      {"listing", lines("GET /list/"), 200, "\"kind\":\"listing\""},
      {"redirect", lines("GET /list"), 301, "\"kind\":\"redirect\""},
      {"options", lines("OPTIONS *"), 204, "\"kind\":\"options\""},
      {"script", lines("GET /cgi-bin/echo?port=TAN"), 200, "QUERY_STRING=port=TAN"},
      {"upload", lines("POST /cgi-bin/echo", "Content-Length: 5\r\n") + "gulls", 200, "\"exit_status\":0"},
      {"chunked upload",
       lines("POST /cgi-bin/echo", "Transfer-Encoding: chunked\r\n") + "3;x=y\r\ngul\r\n2\r\nls\r\n0\r\nT: z\r\n\r\n",
       200, "CONTENT_LENGTH=5"},
      {"nph", lines("GET /cgi-bin/nph-x"), 299, "nph-x"},
      {"local redirect", lines("GET /cgi-bin/local"), 200, "\"redirected_to\":\"/a.txt\""},
      {"redirect of a script", lines("GET /cgi-bin/away"), 302, "\"kind\":\"script\""},
      {"failed script", lines("GET /cgi-bin/fails"), 500, "\"error_lines\":[\"fog\"]"},
      {"cut off", lines("GET /cgi-bin/cut"), 200, "\"kind\":\"script\""},
      {"stream", lines("GET /cgi-bin/stream"), 200, "\"kind\":\"script\""},
      {"no such page", lines("GET /none"), 404, "path-not-found"},
      {"wrong host", "GET / HTTP/1.1\r\nHost: other.test\r\nConnection: close\r\n\r\n", 421, "host-not-served"},
      {"malformed", "GET  / HTTP/1.1\r\n\r\n", 400, "malformed-request"},
      {"broken chunks", lines("POST /cgi-bin/echo", "Transfer-Encoding: chunked\r\n") + "zz\r\n", 400,
       "malformed-body"},
      {"half a head", "GET / HTT", 408, "head-too-slow"},
      {"HTTP/1.0", "GET /a.txt HTTP/1.0\r\n\r\n", 200, "HTTP/1.0"},
  };
  int number = 0;
  for (const Row& row : rows) {
    CAPTURE(row.name);
    const std::string received = kept.send(row.request);
    ++number;
    std::string told;
    CHECK(eventually([&] {
      told = kept.json(number);
      return has(told, "\"in_progress\":false");
    }));
    CAPTURE(told);
    CHECK(has(told, row.told));
    CHECK(has(told, "\"status\":" + std::to_string(row.status)));
    CHECK(kept.part(number, "request") == row.request);
    CHECK(kept.part(number, "response") == received);
    const std::size_t end = received.find("\r\n\r\n");
    if (!has(received.substr(0, end), "chunked") && !has(received.substr(0, end), "gzip"))
      CHECK(kept.part(number, "page") == received.substr(end + 4));
  }
  CHECK(kept.part(5, "page") == std::string(5000, 's'));
  CHECK(kept.part(13, "page") == "ran ");
}

TEST_CASE("a start page is kept like any other response") {
  Kept kept("", "", "");
  const std::string received = kept.send(lines("GET /"));
  CHECK(eventually([&] { return has(kept.json(1), "\"kind\":\"start-page\""); }));
  CHECK(kept.part(1, "request") == lines("GET /"));
  CHECK(kept.part(1, "response") == received);
}

TEST_CASE("requests on one connection are kept each for itself, also where a client waits to be told to go on") {
  Kept kept;
  Connection connection(kept.port());
  const std::string plain = "GET /a.txt HTTP/1.1\r\nHost: localhost\r\n\r\n";
  const std::string script = "GET /cgi-bin/echo HTTP/1.1\r\nHost: localhost\r\n\r\n";
  const std::string waits =
      "POST /cgi-bin/echo HTTP/1.1\r\nHost: localhost\r\nExpect: 100-continue\r\nContent-Length: 3\r\nConnection: "
      "close\r\n\r\n";
  connection.send(plain + script + plain + waits);
  pause_ms(500);
  connection.send("fog");
  const std::string received = connection.receive_all();
  REQUIRE(eventually([&] { return has(kept.json(4), "\"in_progress\":false"); }));
  std::string answers;
  for (const int number : {1, 2, 3, 4}) answers += kept.part(number, "response");
  CHECK(answers == received);
  CHECK(kept.part(1, "request") == plain);
  CHECK(kept.part(2, "request") == script);
  CHECK(kept.part(3, "request") == plain);
  CHECK(kept.part(4, "request") == waits + "fog");
  CHECK(has(kept.part(4, "response"), "HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 200 OK\r\n"));
  CHECK(kept.part(4, "page") == "ran fog");
}

TEST_CASE("a script that has been found a moment ago is told of as one that has to be looked for") {
  Kept kept;
  kept.folder().write("pages/tide.php", "<?php header('X-Run: ' . getmypid()); echo $_GET['at'] ?? 'slack water';");
  Connection connection(kept.port());
  const std::string first = "GET /tide.php HTTP/1.1\r\nHost: localhost\r\nX-Quay: north\r\n\r\n";
  const std::string second = "GET /tide.php?at=07:40 HTTP/1.1\r\nHost: localhost\r\nX-Quay: south\r\n\r\n";
  connection.send(first);
  CHECK(connection.receive().body == "slack water");
  connection.send(second);
  connection.finish_sending();
  const std::string received = connection.receive_all();
  CHECK(received.ends_with("\r\n\r\n07:40"));
  CHECK(kept.part(2, "request") == second);
  CHECK(kept.part(2, "response") == received);
  for (const int number : {1, 2}) {
    const std::string told = kept.json(number);
    CAPTURE(told);
    for (const char* const part :
         {"\"kind\":\"script\"", "\"in_progress\":false", "\"way\":\"persistent\"", "\"runner\":\"php-cgi\"",
          "is a PHP script", "/pages/tide.php\"", "\"REQUEST_METHOD=GET\"", "\"REMOTE_ADDR=127.0.0.1\""})
      CHECK(has(told, part));
    CHECK(has(told, number == 1 ? "\"HTTP_X_QUAY=north\"" : "\"HTTP_X_QUAY=south\""));
    CHECK(has(told, "\"run_of_process\":" + std::to_string(number)));
  }
}

TEST_CASE("a client that is turned away at the door has had an exchange, too") {
  Kept kept("", "connections = 1\n");
  Connection first(kept.port());
  first.send("GET ");
  REQUIRE(eventually([&] { return has(kept.ask("status"), "\"connections\": 1"); }));
  Connection second(kept.port());
  const std::string received = second.receive_all();
  CHECK(has(received, "HTTP/1.1 503 "));
  CHECK(kept.part(1, "response") == received);
  CHECK(has(kept.json(1), "too-many-connections"));
}

TEST_CASE("an exchange in progress is told of with what has gone so far, and so is one whose client leaves") {
  Kept kept;
  Connection connection(kept.port());
  connection.send(lines("GET /cgi-bin/stream"));
  CHECK(eventually([&] { return has(kept.ask("exchanges"), "\"in_progress\":true"); }));
  CHECK(has(kept.part(1, "response"), "data: 1"));
  connection.receive_all();
  CHECK(eventually([&] { return has(kept.json(1), "\"in_progress\":false"); }));
  {
    Connection leaves(kept.port());
    leaves.send(lines("GET /cgi-bin/stream"));
    leaves.receive_all(std::chrono::milliseconds(300));
  }
  CHECK(eventually([&] { return has(kept.json(2), "\"in_progress\":false"); }));
}

TEST_CASE("bodies are kept up to their limit, files that changed are told of, and the oldest go first") {
  Kept kept("[exchanges]\nmemory = \"1 MiB\"\nbody = \"1 KiB\"\n");
  kept.send(lines("POST /cgi-bin/echo", "Content-Length: 5000\r\n") + std::string(5000, 'u'));
  CHECK(kept.part(1, "request") == lines("POST /cgi-bin/echo", "Content-Length: 5000\r\n") + std::string(1024, 'u'));
  CHECK(has(kept.json(1),
            "\"bytes\":" + std::to_string(lines("POST /cgi-bin/echo", "Content-Length: 5000\r\n").size() + 5000)));

  // So much passes without being looked at.
  const std::string head = lines("POST /cgi-bin/echo", "Content-Length: 600000\r\n");
  const std::string papers = numbered(600'000);
  Connection connection(kept.port());
  connection.send(head + papers);
  CHECK(connection.receive().body == "ran " + papers);
  CHECK(kept.part(2, "request") == head + papers.substr(0, 1024));
  CHECK(has(kept.json(2), "\"bytes\":" + std::to_string(head.size() + papers.size())));

  kept.send(lines("GET /large.bin"));
  kept.folder().write("pages/large.bin", "short");
  CHECK(has(kept.part(3, "response"), "exchange-file-changed"));

  const std::string body(900, 'b');
  for (int i = 0; i < 2000; ++i) kept.send(lines("GET /a.txt", "X-Body: " + body + "\r\n"));
  CHECK(has(kept.json(1), "exchange-gone"));
  CHECK(has(kept.json(5000), "exchange-unknown"));
  CHECK(has(kept.json(2003), "\"number\":2003"));
  const std::string page = kept.ask("exchanges?limit=3");
  CHECK(has(page, "\"last\":2003"));
  CHECK_FALSE(has(page, "\"gone_up_to\":0"));
}

TEST_CASE("long bodies are kept and let go of by all threads at once") {
  // Room for those in progress at any time, which take half of it at most, and not for a quarter of all.
  Kept kept("[exchanges]\nmemory = \"8 MiB\"\n");
  constexpr std::size_t kClients = 4;
  constexpr int kEach = 20;
  const std::string papers = numbered(200'000);
  const std::string head = "POST /cgi-bin/echo HTTP/1.1\r\nHost: localhost\r\nContent-Length: 200000\r\n\r\n";
  std::array<int, kClients> right{};
  std::vector<std::thread> clients;
  for (int& own : right)
    clients.emplace_back([&] {
      Connection connection(kept.port());
      for (int i = 0; i < kEach; ++i) {
        connection.send(head + papers);
        own += connection.receive().body == "ran " + papers;
      }
    });
  for (std::thread& client : clients) client.join();
  for (const int own : right) CHECK(own == kEach);
  CHECK(kept.part(kClients * kEach, "request") == head + papers);
  CHECK(kept.stop() == 0);
}

TEST_CASE("a list is filtered, and a filter that means nothing is refused") {
  Kept kept;
  kept.send(lines("GET /a.txt"));
  kept.send(lines("GET /none?Kittiwake"));
  kept.send(lines("POST /cgi-bin/echo", "Content-Length: 5\r\n") + "Guill");
  struct Row {
    std::string query;
    std::vector<int> numbers;
  };
  for (const Row& row : std::vector<Row>{{"status=404", {2}},
                                         {"status=2xx", {1, 3}},
                                         {"method=post", {3}},
                                         {"text=kittiwake", {2}},
                                         {"text=guill%20post", {3}},
                                         {"text=on%20the%20quay", {1}},
                                         {"site=tides&limit=2", {2, 3}},
                                         {"site=other", {}},
                                         {"after=1&before=3", {2}}}) {
    CAPTURE(row.query);
    const std::string page = kept.ask("exchanges?" + row.query);
    for (const int number : {1, 2, 3}) {
      const bool is_wanted = std::find(row.numbers.begin(), row.numbers.end(), number) != row.numbers.end();
      CHECK(has(page, "\"number\":" + std::to_string(number)) == is_wanted);
    }
  }
  for (const char* const query : {"status=4x", "limit=0", "limit=x", "after=-1"})
    CHECK(has(kept.ask(std::string("exchanges?") + query), "bad-call"));
}

TEST_CASE("a request is sent again through the front door, as it was or changed, and what differs is told") {
  Kept kept;
  kept.send(lines("POST /cgi-bin/echo", "Content-Length: 5\r\nX-Quay: one\r\n") + "gulls");
  const auto again = [&](const std::string& change) {
    return kept.ask("exchanges/1/again", {"-X", "POST", "-d", change});
  };
  const std::string same = again("{}");
  CHECK(has(same, "\"number\":2"));
  CHECK(has(same, "\"alike\":true"));
  CHECK(kept.part(2, "request") == kept.part(1, "request"));
  CHECK(has(kept.json(2), "\"repeats\":1"));
  const std::string changed = again(R"({"target": "/cgi-bin/echo?x", "body_base64": "Zm9n", "without": ["x-quay"]})");
  CHECK(has(changed, "\"alike\":false"));
  CHECK(kept.part(3, "request") == lines("POST /cgi-bin/echo?x", "Content-Length: 3\r\n") + "fog");
  CHECK(kept.part(3, "page") == "ran fog");
  for (const char* const wrong :
       {R"({"body_base64": "?"})", R"({"method": "A B"})", R"({"fields": [{"name": "a b"}]})"})
    CHECK(has(again(wrong), "bad-call"));
}

TEST_CASE("whoever follows events is told of each exchange, and of how many were missed") {
  Kept kept;
  Program follower({"curl", "-sN", "--unix-socket", kept.socket(), "http://x/v1/events"});
  follower.read_until(": events");
  kept.send(lines("GET /a.txt"));
  const std::string told = follower.read_until("exchange-ended");
  CHECK(has(told, "event: exchange-begun\ndata: {\"method\":\"GET\",\"number\":1,"));
  kept.folder().write("uporter.toml", "port = 3\n");
  CHECK(has(follower.read_until("event: findings\ndata: {\"findings\":[{\"code\""),
            "event: settings\ndata: {\"applied\":false,"));
  for (int i = 0; i < 1500; ++i) kept.send(lines("GET /a.txt"));
  Program late({"curl", "-sN", "--unix-socket", kept.socket(), "-H", "Last-Event-ID: 1", "http://x/v1/events"});
  CHECK(has(late.read_until("\"number\":1501"), "event: lost\ndata: {\"count\":"));
}

TEST_CASE("under load nothing is lost without a mark, while lists are asked for") {
  Kept kept("[exchanges]\nmemory = \"8 MiB\"\n");
  kept.send(lines("GET /a.txt"));
  std::vector<std::thread> clients;
  constexpr int kClients = 4;
  constexpr int kBatches = 500;
  constexpr int kAtOnce = 50;
  for (int client = 0; client < kClients; ++client)
    clients.emplace_back([&] {
      Connection connection(kept.port());
      std::string batch;
      for (int i = 0; i < kAtOnce; ++i) batch += "GET /a.txt HTTP/1.1\r\nHost: localhost\r\n\r\n";
      for (int i = 0; i < kBatches; ++i) {
        connection.send(batch);
        for (int response = 0; response < kAtOnce; ++response) connection.receive();
        if (i % 100 == 0) kept.ask("exchanges?text=gulls&limit=10");
      }
    });
  for (std::thread& client : clients) client.join();
  const std::string page = kept.ask("exchanges?limit=10");
  CHECK(has(page, "\"last\":" + std::to_string(kClients * kBatches * kAtOnce + 1)));
  CHECK(has(page, "\"lost\":0"));
}

TEST_CASE("what PHP says of itself is what its pages find") {
  const std::string sites = std::string(kOneSite) + "[interpreter.PHP]\nsettings = { upload_max_filesize = \"77M\" }\n";
  const Kept kept("", "", sites);
  kept.folder().write("pages/limit.php", "<?php echo ini_get('upload_max_filesize');");
  CHECK(has(kept.send(lines("GET /limit.php")), "77M"));
  CHECK(has(kept.ask("languages/PHP"), "\"value\": \"77M\""));
}
