// Looking at exchanges, sending them again and comparing them, as a person does in a terminal.
#include <sys/stat.h>

#include <catch2/catch.hpp>
#include <csignal>
#include <filesystem>

#include "core/files/content.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"
#include "support/support.hpp"

using namespace porter::test;
using nlohmann::json;

namespace {

/// A server with two pages and a form, and the client beside it.
class Desk {
 public:
  Desk()
      : server_(filled(), "addresses = [PORT]\n[site.tides]\ndocument-root = \"pages\"\nhosts = [\"localhost\"]\n") {}

  std::uint16_t port() const { return server_.port(); }
  std::string path(const std::string& name) const { return folder_.path() + "/" + name; }
  const TempFolder& folder() const { return folder_; }
  Outcome run(std::vector<std::string> words) const {
    words.insert(words.begin(), built("uporter"));
    words.insert(words.end(), {"--settings", path("uporter.toml")});
    std::vector<std::string> environment = SettledServer::environment(folder_);
    environment.emplace_back("XDG_CONFIG_HOME=");
    return outcome_of(words, environment);
  }
  Response ask(const std::string& target, const std::string& more = "") const { return get(port(), target, more); }

 private:
  TempFolder& filled() {
    folder_.write("pages/index.html", "<link rel=stylesheet href=style.css><p>Kittiwake</p>\n");
    folder_.write("pages/style.css", "p { color: navy }\n");
    folder_.write("pages/photo.bin", std::string("\x89\0\1\2", 4) + std::string(1000, '\xff'));
    folder_.write(
        "pages/cgi-bin/fares",
        "#!/bin/sh\nprintf 'Content-Type: application/json\\nSet-Cookie: desk=7\\n\\n{\"adult\":%s,\"port\":\"TAN\"}' "
        "\"${QUERY_STRING:-4}\"\n",
        0755);
    folder_.write("pages/cgi-bin/book",
                  "#!/bin/sh\necho fog >&2\nprintf 'Content-Type: text/plain\\n\\nbooked\\n'\ncat\n", 0755);
    return folder_;
  }

  TempFolder folder_;
  SettledServer server_;
};

void check_says(const Outcome& outcome, int status, const std::vector<std::string>& parts) {
  CAPTURE(outcome.output);
  CHECK(outcome.status == status);
  for (const std::string& part : parts) {
    CAPTURE(part);
    CHECK(has(outcome.output, part));
  }
}

}  // namespace

TEST_CASE("exchanges are listed, and one is shown with all that is known of it") {
  Desk desk;
  check_says(desk.run({"exchanges"}), 0, {"There was no exchange yet."});
  desk.ask("/");
  desk.ask("/none");
  request(desk.port(), "POST", "/cgi-bin/book", "Content-Type: application/x-www-form-urlencoded\r\n",
          "name=Guill+Tern&port=Skerry%20Head");
  REQUIRE(eventually([&] { return has(desk.run({"exchanges"}).output, "/cgi-bin/book "); }));
  check_says(desk.run({"exchanges"}), 0, {"GET /  ", "404", "POST /cgi-bin/book", "path-not-found", "file\n"});
  check_says(desk.run({"exchanges", "--status", "404"}), 0, {"/none"});
  CHECK_FALSE(has(desk.run({"exchanges", "--status", "4xx"}).output, "book"));
  check_says(desk.run({"exchanges", "--text", "skerry"}), 0, {"/cgi-bin/book"});
  check_says(desk.run({"exchanges", "--status", "four"}), 1, {"three digits"});
  CHECK(json::parse(desk.run({"exchanges", "--json"}).output)["exchanges"].size() == 3);
  check_says(desk.run({"exchange", "3"}), 0,
             {"Exchange 3", "POST /cgi-bin/book HTTP/1.1", "name  Guill Tern", "port  Skerry Head", "booked",
              "exit status 0", "! fog", "REQUEST_METHOD=POST", "How this was decided", "until the first byte"});
  check_says(desk.run({"exchange", "2"}), 0, {"Findings", "path-not-found"});
  check_says(desk.run({"exchange", "9"}), 1, {"There is no exchange 9; the last is 3", "uporter exchanges"});
  CHECK(json::parse(desk.run({"exchange", "3", "--json"}).output)["runs"][0]["error_lines"] == json::array({"fog"}));
  CHECK(desk.run({"exchange", "3", "--body-only"}).output == "booked\nname=Guill+Tern&port=Skerry%20Head");
  CHECK(has(desk.run({"exchange", "1", "--request"}).output, "GET / HTTP/1.1\r\nHost: "));
  CHECK(has(desk.run({"exchange", "1", "--response"}).output, "\r\n\r\n<link rel"));
}

TEST_CASE("bodies are shown by what they are") {
  Desk desk;
  desk.ask("/cgi-bin/fares?4.5");
  desk.ask("/photo.bin");
  desk.ask("/style.css", "Accept-Encoding: gzip\r\n");
  request(desk.port(), "POST", "/cgi-bin/book", "Content-Type: multipart/form-data; boundary=quay\r\n",
          "--quay\r\nContent-Disposition: form-data; name=\"boat\"\r\n\r\nKittiwake\r\n--quay\r\nContent-Disposition: "
          "form-data; name=\"list\"; filename=\"crew.txt\"\r\nContent-Type: text/plain\r\n\r\nTern\r\n--quay--\r\n");
  REQUIRE(eventually([&] { return has(desk.run({"exchanges"}).output, "/cgi-bin/book "); }));
  check_says(desk.run({"exchange", "1"}), 0, {"  {\n    \"adult\": 4.5,\n    \"port\": \"TAN\"\n  }\n"});
  check_says(desk.run({"exchange", "2"}), 0, {"00000000  89 00 01 02 ff", "more bytes"});
  check_says(desk.run({"exchange", "3"}), 0, {"p { color: navy }"});
  check_says(desk.run({"exchange", "4"}), 0,
             {"  boat  Kittiwake\n", "list  the file \"crew.txt\", text/plain, 4 B\n    Tern"});
}

TEST_CASE("a request is sent again, and what may change something only when that is said") {
  Desk desk;
  desk.ask("/cgi-bin/fares?4", "X-Quay: one\r\n");
  request(desk.port(), "POST", "/cgi-bin/book", "", "Tern");
  REQUIRE(eventually([&] { return has(desk.run({"exchanges"}).output, "/cgi-bin/book "); }));
  check_says(desk.run({"again", "1"}), 0, {"Sent again as exchange 3.", "1 and 3  alike"});
  check_says(desk.run({"again", "1", "--target", "/cgi-bin/fares?5", "--header", "X-Quay: two", "--without", "host",
                       "--header", "Host: localhost"}),
             0, {"exchange 4.", "differ", "/adult", "- 4", "+ 5", "HTTP_X_QUAY"});
  check_says(desk.run({"again", "2"}), 2, {"may change something", "--yes"});
  desk.folder().write("body.txt", "Guill");
  check_says(desk.run({"again", "2", "--yes", "--body", desk.path("body.txt")}), 0, {"- Tern", "+ Guill"});
  CHECK(desk.run({"exchange", "5", "--body-only"}).output == "booked\nGuill");
  check_says(desk.run({"again", "1", "--header", "nonsense"}), 2, {"Name: value"});
}

TEST_CASE("two exchanges are compared, also with an entry of a HAR and with a script's source") {
  Desk desk;
  desk.ask("/cgi-bin/fares?4");
  desk.ask("/cgi-bin/fares?4");
  desk.ask("/cgi-bin/fares?5");
  desk.ask("/photo.bin");
  REQUIRE(eventually([&] { return has(desk.run({"exchanges"}).output, "/photo.bin "); }));
  check_says(desk.run({"compare", "1", "2"}), 0, {"1 and 2  alike", "Status  200"});
  check_says(desk.run({"compare", "1", "3"}), 1, {"/adult", "- 4", "+ 5", "QUERY_STRING"});
  check_says(desk.run({"compare", "1", "4"}), 1, {"The first difference is at byte 0."});
  REQUIRE(desk.run({"exchanges", "--har", desk.path("good.har")}).status == 0);
  check_says(desk.run({"compare", desk.path("good.har") + "#1", desk.path("good.har") + "#2"}), 0, {"alike"});
  check_says(desk.run({"compare", desk.path("good.har") + "#4", "4"}), 0, {"alike"});
  check_says(desk.run({"compare", desk.path("good.har") + "#9", "1"}), 2, {"it has 4 entries"});
  check_says(desk.run({"compare", desk.path("pages/cgi-bin/fares"), "1"}), 1, {"#!/bin/sh"});
  check_says(desk.run({"compare", "1", "77"}), 1, {"There is no exchange 77"});
  check_says(desk.run({"compare", "1", desk.path("none")}), 2, {"no file"});
}

TEST_CASE("an archive holds to its schema, groups what was loaded for a page, and tells no secrets unasked") {
  Desk desk;
  const std::string page = "http://localhost:" + std::to_string(desk.port()) + "/";
  const std::string host = "Host: localhost:" + std::to_string(desk.port()) + "\r\n";
  Connection browser(desk.port());
  browser.send("GET / HTTP/1.1\r\n" + host +
               "Authorization: Basic cXVheTpmb2c=\r\nCookie: desk=7\r\n\r\nGET /style.css HTTP/1.1\r\n" + host +
               "Referer: " + page + "\r\nAccept-Encoding: gzip\r\n\r\n" + "GET /cgi-bin/fares HTTP/1.1\r\n" + host +
               "Referer: " + page + "\r\nConnection: close\r\n\r\n");
  browser.receive_all();
  desk.ask("/photo.bin");
  desk.ask("/none");
  request(desk.port(), "POST", "/cgi-bin/book", "Content-Type: application/x-www-form-urlencoded\r\n", "name=Tern");
  desk.ask("/style.css", "If-None-Match: *\r\n");
  Connection broken(desk.port());
  broken.send("GET  / HTTP/1.1\r\n\r\n");
  broken.receive_all();
  REQUIRE(eventually([&] { return has(desk.run({"exchanges"}).output, "400"); }));
  check_says(desk.run({"exchanges", "--har", desk.path("plain.har")}), 0, {"8 exchanges are in", "--with-secrets"});
  check_says(desk.run({"exchanges", "--har", desk.path("secret.har"), "--with-secrets"}), 0, {"8 exchanges"});
  const Outcome checked =
      outcome_of({"node", PORTER_DEMO "/../tests/har/check_har.js", desk.path("plain.har"), desk.path("secret.har")});
  check_says(checked, 0, {"plain.har: 8 entries, 1 pages"});
  const std::string plain = porter::files::content_of(desk.path("plain.har")).value_or("");
  const std::string secret = porter::files::content_of(desk.path("secret.har")).value_or("");
  for (const char* const word : {"cXVheTpmb2c=", "desk=7", "\"desk\""}) {
    CHECK_FALSE(has(plain, word));
    CHECK(has(secret, word));
  }
  const json entries = json::parse(plain)["log"]["entries"];
  CHECK(entries[0]["pageref"] == entries[1]["pageref"]);
  CHECK(entries[0]["pageref"] == entries[2]["pageref"]);
  CHECK(entries[1]["response"]["content"]["text"] == "p { color: navy }\n");
  CHECK(entries[3]["response"]["content"]["encoding"] == "base64");
  CHECK(entries[5]["request"]["postData"]["params"][0]["value"] == "Tern");
  CHECK(desk.run({"exchanges", "--har", "/no/such/folder/x.har"}).status == 1);
}

TEST_CASE("the command for curl sends the same") {
  Desk desk;
  desk.ask("/cgi-bin/fares?a'b", "X-Quay: it's $HOME\r\nX-Empty:\r\n");
  request(desk.port(), "POST", "/cgi-bin/book", "Content-Type: text/plain\r\n", "gull's\n100% \x01 @x");
  request(desk.port(), "POST", "/cgi-bin/book", "", std::string("\0\xff%s\\", 5));
  desk.ask("/cgi-bin/../style.css?[1-3]");
  REQUIRE(eventually([&] { return has(desk.run({"exchanges"}).output, "style.css"); }));
  for (const int number : {1, 2, 3, 4}) {
    CAPTURE(number);
    const std::string before = std::to_string(number);
    const std::string command = desk.run({"exchange", before, "--curl"}).output;
    CAPTURE(command);
    outcome_of({"/bin/sh", "-c", command.substr(0, command.size() - 1) + " --silent --output /dev/null"});
    const std::string after = std::to_string(number + 4);
    REQUIRE(eventually([&] { return desk.run({"exchange", after}).status == 0; }));
    const auto sorted = [&](const std::string& which) {
      const std::string bytes = desk.run({"exchange", which, "--request"}).output;
      const json told = json::parse(desk.run({"exchange", which, "--json"}).output)["request"];
      json fields = told["fields"];
      std::sort(fields.begin(), fields.end());
      return json{{"line", told["start_line"]},
                  {"fields", fields},
                  {"body", porter::text::to_utf8(bytes.substr(told["head_bytes"]))}};
    };
    CHECK(sorted(before) == sorted(after));
  }
}

TEST_CASE("new exchanges are followed as they end") {
  Desk desk;
  desk.ask("/");
  std::vector<std::string> environment = SettledServer::environment(desk.folder());
  environment.emplace_back("XDG_CONFIG_HOME=");
  Program follower({built("uporter"), "exchanges", "--follow", "--settings", desk.path("uporter.toml")}, environment);
  CHECK(has(follower.read_until("file\n"), "GET /  "));
  desk.ask("/style.css");
  CHECK(has(follower.read_until("/style.css"), "/style.css"));
  desk.ask("/none");
  CHECK(has(follower.read_until("path-not-found"), "path-not-found"));
  follower.signal(SIGINT);
}
