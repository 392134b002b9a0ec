// What the cache answers against what the full way answers: the second truth for every kind of site and request that
// the first may take part in.
#include <catch2/catch.hpp>
#include <random>

#include "support/support.hpp"

using namespace porter::test;

namespace {

/// One of a few values, by chance.
class Chance {
 public:
  explicit Chance(unsigned seed) : random_(seed) {}
  template <typename Value>
  const Value& of(const std::vector<Value>& values) {
    return values[random_() % values.size()];
  }
  bool one_in(unsigned count) { return random_() % count == 0; }

 private:
  std::mt19937 random_;
};

/// Status, fields and body, without what differs between any two answers, and without the framing of what is
/// compressed: its length is known once it is kept.
std::string text_of(const Response& response) {
  const bool is_compressed = !response.field("content-encoding").empty();
  std::string out = std::to_string(response.status) + " " + response.reason + "\n";
  for (const auto& [name, value] : response.fields) {
    const bool is_framing = name == "transfer-encoding" || name == "content-length";
    if (name != "date" && name != "connection" && !(is_compressed && is_framing)) out += name + ": " + value + "\n";
  }
  return out + "\n" + std::to_string(response.body.size()) + " " + response.body;
}

}  // namespace

TEST_CASE("the cache answers as the full way does, whatever is asked") {
  TempFolder folder;
  for (const std::string site : {"plain", "dressed"}) {
    folder.write(site + "/index.html", "<p>The harbour office of " + site);
    folder.write(site + "/fares.css", std::string(5000, 'f'));
    folder.write(site + "/small.txt", "calm");
    folder.write(site + "/empty.txt", "");
    folder.write(site + "/chart.png", std::string(90000, 'c'));
    folder.write(site + "/log.txt", std::string(200000, 'l'));
    folder.write(site + "/a b.html", "spaces");
    folder.write(site + "/own.html", "<p>our own page");
  }
  SettledServer server(folder, R"(addresses = PORT
[site.plain]
document-root = "plain"
[site.dressed]
document-root = "dressed"
hosts = ["dressed.localhost"]
[site.dressed.response-headers]
X-Harbour = "Skerry Head"
Cache-Control = "max-age=60"
[site.dressed.problem-pages]
404 = "own.html"
412 = "own.html"
416 = "own.html"
)",
                       {"--threads", "1"});
  pause_ms(2100);  // Younger files are not kept.
  const auto etag = [&](const std::string& host, const std::string& path) {
    Connection connection(server.port());
    connection.send("GET " + path + " HTTP/1.1\r\nHost: " + host + "\r\n\r\n");
    return connection.receive().field("etag");
  };
  const unsigned seed = std::random_device()();
  CAPTURE(seed);
  Chance chance(seed);
  const std::vector<std::string> paths = {"/",          "/index.html", "/fares.css",  "/small.txt",   "/empty.txt",
                                          "/chart.png", "/log.txt",    "/a%20b.html", "/%66ares.css", "/none.html"};
  for (const std::string host : {"localhost", "dressed.localhost"}) {
    Connection quick(server.port());
    Connection full(server.port());
    for (int i = 0; i < 800; ++i) {
      const std::string& path = chance.of(paths);
      const std::string tag = chance.one_in(3) ? etag(host, path) : "\"other\"";
      std::string fields = "Host: " + host + "\r\n";
      const auto maybe = [&](unsigned often, const std::string& name, const std::vector<std::string>& values) {
        if (chance.one_in(often)) fields += name + ": " + chance.of(values) + "\r\n";
      };
      maybe(2, "Accept-Encoding", {"gzip", "gzip;q=0", "br, gzip;q=0.5", "identity", "*", ""});
      maybe(3, "If-None-Match", {tag, "W/" + tag, "\"x\", " + tag, "*", "rubbish"});
      maybe(5, "If-Modified-Since",
            {"Thu, 01 Jan 1970 00:00:00 GMT", "Sun, 07 Nov 2100 00:00:00 GMT", "yesterday", ""});
      maybe(8, "If-Match", {tag, "*", "\"x\""});
      maybe(8, "If-Unmodified-Since", {"Thu, 01 Jan 1970 00:00:00 GMT", "Sun, 07 Nov 2100 00:00:00 GMT"});
      maybe(5, "Range", {"bytes=0-3", "bytes=-2", "bytes=1-", "bytes=900000-", "lines=1-2", "bytes=3-1"});
      maybe(8, "If-Range", {tag, "\"x\""});
      maybe(9, "Connection", {"keep-alive", "Keep-Alive"});
      const bool is_head = chance.one_in(6);
      const std::string line =
          std::string(is_head ? "HEAD " : "GET ") + path + (chance.one_in(4) ? "?tide=high" : "") + " HTTP/1.1\r\n";
      CAPTURE(line, fields);
      // A connection option that nobody knows changes nothing, and the cache leaves such requests alone.
      full.send(line + fields + "Connection: x-harbour\r\n\r\n");
      const std::string expected = text_of(full.receive(is_head));
      quick.send(line + fields + "\r\n");
      const std::string got = text_of(quick.receive(is_head));
      REQUIRE(got == expected);
      REQUIRE(got.substr(0, 3) != "0 ");
    }
  }
  CHECK(server.stop() == 0);
}
