// Raw requests, bytes in, status and decisive fields out; each row with the section of the standard that rules it.
#include <sys/stat.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <fstream>

#include "support/support.hpp"

using namespace porter::test;

namespace {

/// One server for all rows: what one request does must not matter to the next.
struct Fixture {
  TempFolder folder;
  std::string etag;
  Server server{prepare()};

  const std::string& prepare() {
    folder.write("index.html", "home");
    folder.write("a.txt", "0123456789");
    folder.write("page.html", "<p>page</p>");
    folder.write("sub/index.html", "sub");
    folder.write("list/x", "x");
    folder.write("\xc3\xa9t\xc3\xa9.txt", "summer");
    folder.write("odd %41?#&.txt", "odd");
    folder.write("raw\xff.txt", "raw");
    folder.write("line\nfeed.txt", "feed");
    folder.write("app.mjs", "x");
    folder.write("app.wasm", "x");
    folder.write("app.webmanifest", "{}");
    folder.write("big.css", std::string(4000, 'c'));
    // Its length is not known when its response begins.
    folder.write("cgi-bin/late", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nlate'\nsleep 0.2\necho r\n", 0755);
    folder.write("cgi-bin/echo",
                 "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n'\necho \"$REQUEST_METHOD $CONTENT_LENGTH\"\ncat\n",
                 0755);
    ::mkfifo((folder.path() + "/pipe").c_str(), 0644);
    return folder.path();
  }
  Fixture() { etag = get(server.port(), "/a.txt").field("etag"); }
};

Fixture& fixture() {
  static Fixture one;
  return one;
}

struct Row {
  const char* section;
  std::string request;  // "$" stands for "Host: localhost", "@" for the entity tag of /a.txt, "~" for a line end.
  std::string
      expected;  // Status, then "field=value" or "field" (present) or "-field" (absent) or "body=…", or "closed".
};

std::string expand(const std::string& text) {
  std::string out;
  for (const char c : text) {
    if (c == '$') {
      out += "Host: localhost";
    } else if (c == '@') {
      out += fixture().etag;
    } else if (c == '~') {
      out += "\r\n";
    } else {
      out += c;
    }
  }
  return out;
}

std::vector<std::string> split(const std::string& text) {
  std::vector<std::string> out;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find('|', at), text.size());
    out.push_back(text.substr(at, end - at));
    at = end + 1;
  }
  return out;
}

void check_row(const Row& row) {
  CAPTURE(row.section, row.request);
  Connection connection(fixture().server.port());
  connection.send(expand(row.request));
  const Response response = connection.receive(row.request.starts_with("HEAD"));
  const auto parts = split(expand(row.expected));
  REQUIRE(std::to_string(response.status) == parts.front());
  CHECK(response.field("date").size() == 29);
  for (std::size_t i = 1; i < parts.size(); ++i) {
    CAPTURE(parts[i], response.head);
    const std::size_t equals = parts[i].find('=');
    const std::string name = parts[i].substr(0, equals);
    if (name == "closed") {
      CHECK(connection.is_closed(std::chrono::seconds(5)));
    } else if (name == "next") {
      CHECK(std::to_string(connection.receive().status) == parts[i].substr(equals + 1));
    } else if (name == "body") {
      CHECK(response.body == parts[i].substr(equals + 1));
    } else if (name == "says") {
      CHECK(response.body.find(parts[i].substr(equals + 1)) != std::string::npos);
    } else if (name.starts_with('-')) {
      CHECK(response.field(name.substr(1)).empty());
    } else if (equals == std::string::npos) {
      CHECK_FALSE(response.field(name).empty());
    } else {
      CHECK(response.field(name) == parts[i].substr(equals + 1));
    }
  }
}

}  // namespace

TEST_CASE("targets: RFC 9112 section 3.2 and RFC 3986") {
  check_row(GENERATE(values<Row>({
      {"9112-3.2.1", "GET / HTTP/1.1~$~~", "200|body=home"},
      {"9112-3.2.1", "GET /a.txt HTTP/1.1~$~~", "200|body=0123456789"},
      {"9112-3.2.1", "GET /a.txt?x=1 HTTP/1.1~$~~", "200|body=0123456789"},
      {"9112-3.2.1", "GET /a.txt? HTTP/1.1~$~~", "200|body=0123456789"},
      {"9112-3.2.2", "GET http://localhost/a.txt HTTP/1.1~$~~", "200|body=0123456789"},
      {"9112-3.2.2", "GET http://localhost HTTP/1.1~$~~", "200|body=home"},
      {"9112-3.2.2", "GET http://127.0.0.1:1/a.txt HTTP/1.1~Host: evil.example~~", "200|body=0123456789"},
      {"9112-3.2.2", "GET http://evil.example/a.txt HTTP/1.1~$~~", "421"},
      {"9112-3.2.2", "GET ftp://localhost/a.txt HTTP/1.1~$~~", "400|closed"},
      {"9112-3.2.2", "GET http://me@localhost/a.txt HTTP/1.1~$~~", "400|closed"},
      {"9112-3.2.3", "CONNECT localhost:80 HTTP/1.1~$~~", "501"},
      {"9112-3.2.3", "GET localhost:80 HTTP/1.1~$~~", "400|closed"},
      {"9112-3.2.4", "OPTIONS * HTTP/1.1~$~~", "204|allow=GET, HEAD, POST, PUT, PATCH, DELETE, OPTIONS"},
      {"9112-3.2.4", "GET * HTTP/1.1~$~~", "400|closed"},
      {"9112-3", "GET a.txt HTTP/1.1~$~~", "400|closed"},
      {"9110-4.2.5", "GET /a.txt#x HTTP/1.1~$~~", "400|closed"},
      {"3986-2.1", "GET /%61.txt HTTP/1.1~$~~", "200|body=0123456789"},
      {"3986-2.1", "GET /a%2etxt HTTP/1.1~$~~", "200|body=0123456789"},
      {"3986-2.1", "GET /a%2.txt HTTP/1.1~$~~", "400|closed"},
      {"3986-2.1", "GET /a% HTTP/1.1~$~~", "400|closed"},
      {"3986-2.1", "GET /%zz HTTP/1.1~$~~", "400|closed"},
      {"3986-2.1", "GET /a.txt%00 HTTP/1.1~$~~", "400|closed"},
      {"3986-2.1", "GET /sub%2findex.html HTTP/1.1~$~~", "404|says=encoded-slash"},
      {"3986-2.1", "GET /sub%2Findex.html HTTP/1.1~$~~", "404"},
      {"3986-2.5", "GET /%C3%A9t%c3%a9.txt HTTP/1.1~$~~", "200|body=summer"},
      {"3986-2.5", "GET /\xc3\xa9t\xc3\xa9.txt HTTP/1.1~$~~", "200|body=summer"},
      {"3986-2.5", "GET /raw%FF.txt HTTP/1.1~$~~", "200|body=raw"},
      {"3986-2.5", "GET /line%0Afeed.txt HTTP/1.1~$~~", "200|body=feed"},
      {"3986-2.5", "GET /odd%20%2541%3F%23&.txt HTTP/1.1~$~~", "200|body=odd"},
      {"3986-5.2.4", "GET /sub/../a.txt HTTP/1.1~$~~", "200|body=0123456789"},
      {"3986-5.2.4", "GET /sub/%2e%2e/a.txt HTTP/1.1~$~~", "200|body=0123456789"},
      {"3986-5.2.4", "GET /./a.txt HTTP/1.1~$~~", "200|body=0123456789"},
      {"3986-5.2.4", "GET /../../../a.txt HTTP/1.1~$~~", "200|body=0123456789"},
      {"3986-5.2.4", "GET /sub/.. HTTP/1.1~$~~", "200|body=home"},
      {"3986-5.2.4", "GET /../etc/passwd HTTP/1.1~$~~", "404"},
      {"3986-5.2.4", "GET /%2e%2e/%2e%2e/etc/passwd HTTP/1.1~$~~", "404"},
      {"3986-5.2.4", "GET /..%2f..%2fetc/passwd HTTP/1.1~$~~", "404"},
      {"9110-15.4", "GET /sub HTTP/1.1~$~~", "301|location=/sub/"},
      {"9110-15.4", "GET /sub?a=b HTTP/1.1~$~~", "301|location=/sub/?a=b"},
      {"9110-15.4", "GET //sub HTTP/1.1~$~~", "301|location=/sub/"},
      {"9110-15.5.5", "GET /none HTTP/1.1~$~~", "404|cache-control=no-store"},
      {"9110-15.5.4", "GET /pipe HTTP/1.1~$~~", "403|says=named pipe"},
  })));
}

TEST_CASE("request lines and versions: RFC 9112 sections 2 and 3") {
  check_row(GENERATE(values<Row>({
      {"9112-2.2", "~GET /a.txt HTTP/1.1~$~~", "200|body=0123456789"},
      {"9112-2.2", "~~~GET /a.txt HTTP/1.1~$~~", "200|body=0123456789"},
      {"9112-2.2", "GET /a.txt HTTP/1.0\n\n", "200|body=0123456789|closed"},
      {"9112-2.2", "GET /a.txt HTTP/1.1\nHost: localhost\n\n", "200|body=0123456789"},
      {"9112-2.2", "GET /a.txt HTTP/1.1\nHost: localhost~~", "200|body=0123456789"},
      {"9112-2.2", "POST /cgi-bin/echo HTTP/1.1\nHost: localhost\nContent-Length: 1\n\nx", "400|closed"},
      {"9112-2.2", "POST /cgi-bin/echo HTTP/1.1\nHost: localhost\nTransfer-Encoding: chunked\n\n0~~", "400|closed"},
      {"9112-2.2", "GET /a.txt HTTP/1.1\rHost: localhost\r\r\n\r\n", "400|closed"},
      {"9112-2.3", "GET /a.txt HTTP/1.2~$~~", "200"},
      {"9112-2.3", "GET /a.txt HTTP/2.0~$~~", "505|closed"},
      {"9112-2.3", "PRI * HTTP/2.0~~SM~~", "505|closed"},
      {"9112-2.3", "GET /a.txt HTTP/0.9~$~~", "505|closed"},
      {"9112-2.3", "GET /a.txt HTTP/1.10~$~~", "400|closed"},
      {"9112-2.3", "GET /a.txt http/1.1~$~~", "400|closed"},
      {"9112-2.3", "GET /a.txt HTTP/1.1 ~$~~", "400|closed"},
      {"1945-4.1", "GET /a.txt~~", "200|body=0123456789|closed"},
      {"1945-4.1", "GET /a.txt\n\n", "200|body=0123456789|closed"},
      {"1945-4.1", "GET /a.txt~$~~", "400|closed"},
      {"1945-4.1", "GET /a.txt~~GET /a.txt HTTP/1.1~$~~", "400|closed"},
      {"1945-4.1", "POST /cgi-bin/echo~~", "400|closed"},
      {"1945-4.1", "GET a.txt~~", "400|closed"},
      {"9112-3", "GET~~", "400|closed"},
      {"9112-3", "GET  /a.txt HTTP/1.1~$~~", "400|closed"},
      {"9112-3", "GET\t/a.txt\tHTTP/1.1~$~~", "400|closed"},
      {"9112-3", "GET /a .txt HTTP/1.1~$~~", "400|closed"},
      {"9112-3", " GET /a.txt HTTP/1.1~$~~", "400|closed"},
      {"9112-3.1", "G(T /a.txt HTTP/1.1~$~~", "400|closed"},
      {"9110-9.1", "get /a.txt HTTP/1.1~$~~", "405"},
      {"9110-9.1", "SAIL /a.txt HTTP/1.1~$~~", "405|allow=GET, HEAD, OPTIONS"},
      {"9110-9.3.8", "TRACE /a.txt HTTP/1.1~$~~", "501"},
      {"5246-7.4", "\x16\x03\x01\x02\x05\x01", "400|says=https|closed"},
      {"9112-2.2", "\x01\x02~~", "400|closed"},
  })));
}

TEST_CASE("Host: RFC 9110 section 7.2 and RFC 9112 section 3.2") {
  check_row(GENERATE(values<Row>({
      {"9112-3.2", "GET /a.txt HTTP/1.1~~", "400|closed"},
      {"9112-3.2", "GET /a.txt HTTP/1.1~$~$~~", "400|closed"},
      {"9112-3.2", "GET /a.txt HTTP/1.1~Host: a b~~", "400|closed"},
      {"9112-3.2", "GET /a.txt HTTP/1.1~Host:~~", "400|closed"},
      {"9112-3.2", "GET /a.txt HTTP/1.1~Host: localhost/x~~", "400|closed"},
      {"9112-3.2", "GET /a.txt HTTP/1.1~Host: local\"host~~", "400|closed"},
      {"9112-3.2", "GET /a.txt HTTP/1.1~Host: [::1~~", "400|closed"},
      {"9112-3.2", "GET /a.txt HTTP/1.1~Host: localhost:99999~~", "400|closed"},
      {"9112-3.2", "GET /a.txt HTTP/1.0~~", "200"},
      {"9112-3.2", "GET /a.txt HTTP/1.0~Host: evil.example~~", "421"},
      {"9110-7.2", "GET /a.txt HTTP/1.1~Host: LOCALHOST:1~~", "200"},
      {"6761-6.3", "GET /a.txt HTTP/1.1~Host: gulls.localhost~~", "200"},
      {"6761-6.3", "GET /a.txt HTTP/1.1~Host: a.b.localhost.~~", "200"},
      {"9110-7.2", "GET /a.txt HTTP/1.1~Host: 127.0.0.1~~", "200"},
      {"9110-7.2", "GET /a.txt HTTP/1.1~Host: [::1]:8080~~", "200"},
      {"9110-15.5.20", "GET /a.txt HTTP/1.1~Host: evil.example~~", "421|says=let a site answer to it"},
      {"9110-15.5.20", "GET /a.txt HTTP/1.1~Host: localhost.evil.example~~", "421"},
      {"9110-15.5.20", "GET /a.txt HTTP/1.1~Host: notlocalhost~~", "421"},
  })));
}

TEST_CASE("fields: RFC 9112 section 5 and RFC 9110 section 5") {
  check_row(GENERATE(values<Row>({
      {"9112-5.1", "GET /a.txt HTTP/1.1~Host : localhost~~", "400|closed"},
      {"9112-5.1", "GET /a.txt HTTP/1.1~$~X Y: z~~", "400|closed"},
      {"9112-5.1", "GET /a.txt HTTP/1.1~$~: z~~", "400|closed"},
      {"9112-5", "GET /a.txt HTTP/1.1~$~nonsense~~", "400|closed"},
      {"9112-5.2", "GET /a.txt HTTP/1.1~$~A: b~ c~~", "400|closed"},
      {"9112-5.2", "GET /a.txt HTTP/1.1~$~A: b~\tc~~", "400|closed"},
      {"9112-5.2", "GET /a.txt HTTP/1.1~ A: b~$~~", "400|closed"},
      {"9110-5.5", "GET /a.txt HTTP/1.1~$~A: b\rc~~", "400|closed"},
      {"9110-5.5",
       "GET /a.txt HTTP/1.1~$~A: b\x01"
       "c~~",
       "400|closed"},
      {"9110-5.5", "GET /a.txt HTTP/1.1~$~A: b\x7f~~", "400|closed"},
      {"9110-5.5", "GET /a.txt HTTP/1.1~$~A: b\tc~~", "200"},
      {"9110-5.5", "GET /a.txt HTTP/1.1~$~A: caf\xe9~~", "200"},
      {"9110-5.5", "GET /a.txt HTTP/1.1~host:localhost~~", "200"},
      {"9110-5.5", "GET /a.txt HTTP/1.1~Host:  \t localhost \t~~", "200"},
      {"9110-5.1", "GET /a.txt HTTP/1.1~$~!#%&'*+-.^_`|9z: ok~~", "200"},
  })));
}

TEST_CASE("framing: RFC 9112 sections 6 and 7") {
  check_row(GENERATE(values<Row>({
      {"9112-6.3", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: 3~~abc", "200|body=POST 3\nabc"},
      {"9112-6.3", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: 0~~", "200|body=POST 0\n"},
      {"9112-6.3", "POST /cgi-bin/echo HTTP/1.1~$~~", "200|body=POST \n"},
      {"9112-6.3", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: 3~~abcGET /a.txt HTTP/1.1~$~~", "200|next=200"},
      {"9112-6.3", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: 3~Content-Length: 4~~abcd", "400|closed"},
      {"9112-6.3", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: 3, 3~~abc", "400|closed"},
      {"9112-6.3", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: 3~Content-Length: 3~~abc", "400|closed"},
      {"9112-6.3", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: -3~~abc", "400|closed"},
      {"9112-6.3", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: +3~~abc", "400|closed"},
      {"9112-6.3", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: 3 3~~abc", "400|closed"},
      {"9112-6.3", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: 0x3~~abc", "400|closed"},
      {"9112-6.3", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: 99999999999999999999~~", "400|closed"},
      {"9112-6.1", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: 3~Transfer-Encoding: chunked~~0~~", "400|closed"},
      {"9112-6.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: gzip, chunked~~0~~", "501|closed"},
      {"9112-6.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: identity~~", "501|closed"},
      {"9112-6.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunked~Transfer-Encoding: chunked~~0~~",
       "501|closed"},
      {"9112-6.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunke\x64\x0b~~0~~", "400|closed"},
      {"9112-6.1", "POST /cgi-bin/echo HTTP/1.0~Transfer-Encoding: chunked~~0~~", "400|closed"},
      {"9112-7.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunked~~3~abc~0~~", "200|body=POST 3\nabc"},
      {"9112-7.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: CHUNKED~~3~abc~2~de~0~~",
       "200|body=POST 5\nabcde"},
      {"9112-7.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunked~~0~~", "200|body=POST 0\n"},
      {"9112-7.1.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunked~~3;x=y~abc~0;z~~",
       "200|body=POST 3\nabc"},
      {"9112-7.1.2", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunked~~3~abc~0~T: u~~GET / HTTP/1.1~$~~",
       "200|body=POST 3\nabc|next=200"},
      {"9112-7.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunked~~g~abc~0~~", "400|closed"},
      {"9112-7.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunked~~3~abcd~0~~", "400|closed"},
      {"9112-7.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunked~~-1~a~0~~", "400|closed"},
      {"9112-7.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunked~~0x1~a~0~~", "400|closed"},
      {"9112-7.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunked~~fffffffffffffffff~a", "400|closed"},
      {"9112-7.1", "POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunked~~1\na\n0\n\n", "400|closed"},
      {"9112-6.3", "GET /a.txt HTTP/1.1~$~Content-Length: 3~~abcGET /a.txt HTTP/1.1~$~~", "200|next=200"},
      {"9112-6.3", "POST /a.txt HTTP/1.1~$~Content-Length: 3~~abcGET /a.txt HTTP/1.1~$~~", "405|next=200"},
      {"9110-10.1.1", "POST /a.txt HTTP/1.1~$~Expect: 100-continue~Content-Length: 3~~", "405|closed"},
      {"9110-10.1.1", "POST /cgi-bin/echo HTTP/1.1~$~Expect: miracle~Content-Length: 3~~abc", "417|closed"},
      {"9110-10.1.1", "POST /cgi-bin/echo HTTP/1.0~Expect: 100-continue~Content-Length: 3~~abc", "200"},
      {"9110-15.5.14", "POST /cgi-bin/echo HTTP/1.1~$~Content-Length: 67108865~~", "413|closed"},
  })));
}

TEST_CASE("methods and connections: RFC 9110 section 9, RFC 9112 section 9") {
  check_row(GENERATE(values<Row>({
      {"9110-9.3.2", "HEAD /a.txt HTTP/1.1~$~~GET / HTTP/1.1~$~~", "200|content-length=10|next=200"},
      {"9110-9.3.2", "HEAD /none HTTP/1.1~$~~GET / HTTP/1.1~$~~", "404|content-length|next=200"},
      {"9110-9.3.2", "HEAD /list/ HTTP/1.1~$~~GET / HTTP/1.1~$~~", "200|content-length|next=200"},
      {"9110-9.3.2", "HEAD /cgi-bin/echo HTTP/1.1~$~~GET / HTTP/1.1~$~~", "200|next=200"},
      {"9110-9.3.2", "HEAD /big.css HTTP/1.1~$~Accept-Encoding: gzip~~GET / HTTP/1.1~$~~",
       "200|content-encoding=gzip|next=200"},
      {"9110-9.3.7", "OPTIONS /a.txt HTTP/1.1~$~~", "204|allow=GET, HEAD, OPTIONS"},
      {"9110-9.3.7", "OPTIONS /list/ HTTP/1.1~$~~", "204|allow=GET, HEAD, OPTIONS"},
      {"9110-9.3.7", "OPTIONS /cgi-bin/echo HTTP/1.1~$~~", "200|body=OPTIONS \n"},
      {"9110-9.3.7", "OPTIONS /none HTTP/1.1~$~~", "404"},
      {"9110-15.5.6", "POST /a.txt HTTP/1.1~$~Content-Length: 0~~", "405|allow=GET, HEAD, OPTIONS"},
      {"9110-15.5.6", "DELETE /a.txt HTTP/1.1~$~~", "405|allow=GET, HEAD, OPTIONS"},
      {"9110-15.5.6", "PUT /a.txt HTTP/1.1~$~Content-Length: 1~~x", "405|allow=GET, HEAD, OPTIONS"},
      {"9110-15.5.6", "PATCH /list/ HTTP/1.1~$~~", "405|allow=GET, HEAD, OPTIONS"},
      {"9110-9.3.5", "DELETE /cgi-bin/echo HTTP/1.1~$~~", "200|body=DELETE \n"},
      {"9112-9.3", "GET /a.txt HTTP/1.1~$~~GET /a.txt HTTP/1.1~$~~", "200|-connection|next=200"},
      {"9112-9.6", "GET /a.txt HTTP/1.1~$~Connection: close~~", "200|connection=close|closed"},
      {"9112-9.6", "GET /a.txt HTTP/1.1~$~Connection: x, Close~~", "200|connection=close|closed"},
      {"9112-9.3", "GET /a.txt HTTP/1.0~~", "200|connection=close|closed"},
      {"9112-9.3", "GET /a.txt HTTP/1.0~Connection: keep-alive~~GET / HTTP/1.1~$~~",
       "200|connection=keep-alive|next=200"},
      {"9112-9.3", "GET /cgi-bin/late HTTP/1.0~Connection: keep-alive~~",
       "200|-transfer-encoding|-content-length|closed"},
  })));
}

TEST_CASE("conditions, ranges and codings: RFC 9110 sections 8, 12, 13 and 14") {
  check_row(GENERATE(values<Row>({
      {"9110-8.8.3", "GET /a.txt HTTP/1.1~$~~", "200|etag=@|last-modified|cache-control=no-cache|accept-ranges=bytes"},
      {"9110-13.1.2", "GET /a.txt HTTP/1.1~$~If-None-Match: @~~GET / HTTP/1.1~$~~",
       "304|etag=@|-content-length|next=200"},
      {"9110-13.1.2", "GET /a.txt HTTP/1.1~$~If-None-Match: W/@~~", "304"},
      {"9110-13.1.2", "GET /a.txt HTTP/1.1~$~If-None-Match: *~~", "304"},
      {"9110-13.1.2", "GET /a.txt HTTP/1.1~$~If-None-Match: \"x\", @~~", "304"},
      {"9110-13.1.2", "GET /a.txt HTTP/1.1~$~If-None-Match: \"x\"~~", "200"},
      {"9110-13.1.2", "HEAD /a.txt HTTP/1.1~$~If-None-Match: @~~", "304"},
      {"9110-13.1.3", "GET /a.txt HTTP/1.1~$~If-Modified-Since: Sun, 06 Nov 1994 08:49:37 GMT~~", "200"},
      {"9110-13.1.3", "GET /a.txt HTTP/1.1~$~If-Modified-Since: nonsense~~", "200"},
      {"9110-13.1.3", "GET /a.txt HTTP/1.1~$~If-None-Match: \"x\"~If-Modified-Since: Sun, 06 Nov 2094 08:49:37 GMT~~",
       "200"},
      {"9110-13.1.1", "GET /a.txt HTTP/1.1~$~If-Match: @~~", "200"},
      {"9110-13.1.1", "GET /a.txt HTTP/1.1~$~If-Match: *~~", "200"},
      {"9110-13.1.1", "GET /a.txt HTTP/1.1~$~If-Match: \"x\"~~", "412|says=If-Match"},
      {"9110-13.1.1", "GET /a.txt HTTP/1.1~$~If-Match: W/@~~", "412"},
      {"9110-13.1.4", "GET /a.txt HTTP/1.1~$~If-Unmodified-Since: Sun, 06 Nov 1994 08:49:37 GMT~~", "412"},
      {"9110-13.2.2", "GET /a.txt HTTP/1.1~$~If-Match: @~If-Unmodified-Since: Sun, 06 Nov 1994 08:49:37 GMT~~", "200"},
      {"9110-14.2", "GET /a.txt HTTP/1.1~$~Range: bytes=0-3~~",
       "206|content-range=bytes 0-3/10|body=0123|content-length=4"},
      {"9110-14.2", "GET /a.txt HTTP/1.1~$~Range: bytes=8-~~", "206|content-range=bytes 8-9/10|body=89"},
      {"9110-14.2", "GET /a.txt HTTP/1.1~$~Range: bytes=-3~~", "206|content-range=bytes 7-9/10|body=789"},
      {"9110-14.2", "GET /a.txt HTTP/1.1~$~Range: bytes=5-500~~", "206|content-range=bytes 5-9/10|body=56789"},
      {"9110-14.2", "GET /a.txt HTTP/1.1~$~Range: bytes=10-~~", "416|content-range=bytes */10"},
      {"9110-14.2", "GET /a.txt HTTP/1.1~$~Range: bytes=-0~~", "416|content-range=bytes */10"},
      {"9110-14.2", "GET /a.txt HTTP/1.1~$~Range: bytes=4-2~~", "200|body=0123456789"},
      {"9110-14.2", "GET /a.txt HTTP/1.1~$~Range: seamiles=0-3~~", "200|body=0123456789"},
      {"9110-14.2", "HEAD /a.txt HTTP/1.1~$~Range: bytes=0-3~~", "200|content-length=10"},
      {"9110-14.6", "GET /a.txt HTTP/1.1~$~Range: bytes=0-1,8-9~~GET / HTTP/1.1~$~~", "206|says=bytes 8-9/10|next=200"},
      {"9110-14.2", "GET /a.txt HTTP/1.1~$~Range: bytes=0-9,0-9,0-9~~", "200|body=0123456789"},
      {"9110-13.1.5", "GET /a.txt HTTP/1.1~$~Range: bytes=0-3~If-Range: @~~", "206"},
      {"9110-13.1.5", "GET /a.txt HTTP/1.1~$~Range: bytes=0-3~If-Range: \"x\"~~", "200|body=0123456789"},
      {"9110-13.1.5", "GET /a.txt HTTP/1.1~$~Range: bytes=0-3~If-Range: W/@~~", "200"},
      {"9110-13.2.2", "GET /a.txt HTTP/1.1~$~Range: bytes=0-3~If-None-Match: @~~", "304"},
      {"9110-12.5.3", "GET /big.css HTTP/1.1~$~~", "200|-content-encoding|vary=Accept-Encoding|content-length=4000"},
      {"9110-12.5.3", "GET /big.css HTTP/1.1~$~Accept-Encoding: gzip~~",
       "200|content-encoding=gzip|vary=Accept-Encoding"},
      {"9110-12.5.3", "GET /big.css HTTP/1.1~$~Accept-Encoding: gzip;q=0~~", "200|-content-encoding"},
      {"9110-12.5.3", "GET /big.css HTTP/1.1~$~Accept-Encoding: br, *;q=0.5~~", "200|content-encoding=gzip"},
      {"9110-12.5.3", "GET /a.txt HTTP/1.1~$~Accept-Encoding: gzip~~", "200|-content-encoding|-vary"},
      {"9110-14.2", "GET /big.css HTTP/1.1~$~Accept-Encoding: gzip~Range: bytes=0-3~~",
       "206|-content-encoding|body=cccc"},
      {"9110-8.3", "GET /app.mjs HTTP/1.1~$~~", "200|content-type=text/javascript; charset=utf-8"},
      {"9110-8.3", "GET /app.wasm HTTP/1.1~$~~", "200|content-type=application/wasm"},
      {"9110-8.3", "GET /app.webmanifest HTTP/1.1~$~~", "200|content-type=application/manifest+json"},
  })));
}

TEST_CASE("a request is read however its bytes are split") {
  const std::string bytes = expand("POST /cgi-bin/echo HTTP/1.1~$~Transfer-Encoding: chunked~~3~abc~0~~");
  for (std::size_t at = 1; at < bytes.size(); at += 7) {
    CAPTURE(at);
    Connection connection(fixture().server.port());
    connection.send(bytes.substr(0, at));
    pause_ms(5);
    connection.send(bytes.substr(at));
    CHECK(connection.receive().body == "POST 3\nabc");
  }
  Connection slow(fixture().server.port());
  for (const char c : expand("GET /a.txt HTTP/1.1~$~~")) {
    slow.send(std::string_view(&c, 1));
    pause_ms(1);
  }
  CHECK(slow.receive().body == "0123456789");
}

TEST_CASE("answers say 100 Continue only when the body is wanted") {
  Connection connection(fixture().server.port());
  connection.send(expand("POST /cgi-bin/echo HTTP/1.1~$~Expect: 100-continue~Content-Length: 3~~"));
  CHECK(connection.receive_until("\r\n\r\n").starts_with("HTTP/1.1 100 Continue\r\n\r\n"));
  connection.send("abc");
  CHECK(has(connection.receive_until("abc"), "abc"));
}

TEST_CASE("every response from the cache equals the one that filled it") {
  TempFolder folder;
  folder.write("old.html", std::string(3000, 'o'));
  folder.write("large.bin", std::string(200'000, 'l'));
  pause_ms(2200);  // Younger files are not trusted.
  Server server(folder.path());
  for (const std::string& target : {std::string("/old.html"), std::string("/large.bin")})
    for (const std::string& lines : {std::string(), std::string("Accept-Encoding: gzip\r\n"),
                                     std::string("If-None-Match: *\r\n"), std::string("Range: bytes=1-2\r\n")}) {
      CAPTURE(target, lines);
      Connection connection(server.port());
      const std::string request = "GET " + target + " HTTP/1.1\r\nHost: localhost\r\n" + lines + "\r\n";
      std::vector<Response> answers;
      for (int i = 0; i < 3; ++i) {
        connection.send(request);
        answers.push_back(connection.receive());
      }
      for (const Response& response : answers) {
        CHECK(response.status == answers.front().status);
        CHECK(response.body == answers.front().body);
        auto fields = response.fields;
        auto first = answers.front().fields;
        fields.erase("date");
        first.erase("date");
        CHECK(fields == first);
      }
    }
  CHECK(server.stop() == 0);
}

TEST_CASE("an edit shows at once, even of a file that lies in the cache") {
  TempFolder folder;
  folder.write("page.html", "old");
  pause_ms(2200);
  Server server(folder.path());
  Connection connection(server.port());
  const auto load = [&] {
    connection.send("GET /page.html HTTP/1.1\r\nHost: localhost\r\n\r\n");
    return connection.receive().body;
  };
  CHECK(load() == "old");
  CHECK(load() == "old");
  for (int i = 0; i < 50; ++i) {
    const std::string text = "ed" + std::to_string(i % 10);
    folder.write("page.html", text);
    REQUIRE(load() == text);
  }
  ::unlink((folder.path() + "/page.html").c_str());
  CHECK(load().find("path-not-found") != std::string::npos);
  CHECK(server.stop() == 0);
}
