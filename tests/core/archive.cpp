// Archives (HAR): made in bounded pieces, with every value left out whose name means a secret.
#include <zlib.h>

#include <catch2/catch.hpp>

#include "core/exchange/har.hpp"
#include "core/exchange/secrets.hpp"
#include "core/text/json.hpp"

using namespace porter::exchange;
using nlohmann::json;

namespace {

Recorded exchange_of(std::string request, std::string response, std::uint64_t number = 1) {
  Recorded out;
  out.number = number;
  out.method = "POST";
  const std::size_t begin = request.find(' ') + 1;
  out.target = request.substr(begin, request.find(' ', begin) - begin);
  out.status = 200;
  out.server = "127.0.0.1";
  out.server_port = 8080;
  out.request.length = request.size();
  out.response.length = response.size();
  out.request.bytes = std::move(request);
  out.response.bytes = std::move(response);
  return out;
}

std::string text_of(const std::vector<Recorded>& all, Secrets secrets, HarText::Bounds bounds = {},
                    std::size_t* largest = nullptr) {
  std::vector<std::uint64_t> numbers;
  for (const Recorded& one : all) numbers.push_back(one.number);
  const auto find = [&](std::uint64_t number) -> std::optional<Recorded> {
    for (const Recorded& one : all)
      if (one.number == number && !one.request.bytes.empty()) return one;
    return std::nullopt;
  };
  HarText archive(numbers, find, secrets, bounds);
  std::string out;
  for (std::string piece; archive.next(piece);) {
    if (largest != nullptr) *largest = std::max(*largest, piece.size());
    out += piece;
  }
  return out;
}

std::string with_body(const std::string& type, const std::string& body) {
  return "POST /x HTTP/1.1\r\nHost: localhost:8080\r\nContent-Type: " + type +
         "\r\nContent-Length: " + std::to_string(body.size()) + "\r\n\r\n" + body;
}

const char* const kFine = "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n";

}  // namespace

TEST_CASE("a name means a secret by the words in it") {
  for (const char* const name :
       {"password",   "PASSWORD",      "user[password]",      "userPasswd",   "X-Api-Key",
        "apiKey",     "api_key",       "access_token",        "sessionToken", "Cookie",
        "Set-Cookie", "Authorization", "Proxy-Authorization", "csrf_token",   "PHPSESSID",
        "pass",       "user-pwd",      "client.secret",       "sid",          "X-Amz-Signature",
        "otp"}) {
    CAPTURE(name);
    CHECK(is_secret_name(name));
  }
  for (const char* const name : {"", "harbour", "passenger", "compass", "author", "keyword", "monkey", "spin", "Accept",
                                 "Content-Type", "considered", "tidal-range", "Host"}) {
    CAPTURE(name);
    CHECK_FALSE(is_secret_name(name));
  }
}

TEST_CASE("no secret is in an archive without them, wherever it was sent, and each is in one with them") {
  struct Row {
    const char* name;
    std::string request;
    std::string response;
  };
  const std::string part = "\r\nContent-Disposition: form-data; name=\"";
  const std::string upload =
      "--b" + part + "port\"\r\n\r\nTAN\r\n--b" + part + "passwd\"\r\n\r\nKITTIWAKE\r\n--b--\r\n";
  const auto page = [](const std::string& type, const std::string& body) {
    return "HTTP/1.1 200 OK\r\nContent-Type: " + type + "\r\nContent-Length: " + std::to_string(body.size()) +
           "\r\n\r\n" + body;
  };
  const std::string asked = "GET /x HTTP/1.1\r\nHost: h\r\n";
  const auto row = GENERATE_COPY(values<Row>({
      {"a field", asked + "X-Api-Key: KITTIWAKE\r\n\r\n", kFine},
      {"a cookie", asked + "Cookie: a=KITTIWAKE; b=2\r\n\r\n", kFine},
      {"a cookie that is set", asked + "\r\n", "HTTP/1.1 200 OK\r\nSet-Cookie: a=KITTIWAKE; Path=/\r\n\r\n"},
      {"a field with a space before its colon", asked + "Authorization : Basic KITTIWAKE\r\n\r\n", kFine},
      {"a folded field", asked + "Cookie: a=1;\r\n b=KITTIWAKE\r\n\r\n", kFine},
      {"a field folded twice", asked + "Cookie: a=1;\r\n b=2;\r\n\tc=KITTIWAKE\r\n\r\n", kFine},
      {"a line without a colon", asked + "Cookie KITTIWAKE\r\n\r\n", kFine},
      {"a query", "GET /x?token=KITTIWAKE&a=b HTTP/1.1\r\nHost: h\r\n\r\n", kFine},
      {"a query with an escaped name", "GET /x?pass%77ord=KITTIWAKE HTTP/1.1\r\nHost: h\r\n\r\n", kFine},
      {"a query whose value holds a semicolon", "GET /x?token=a;KITTIWAKE HTTP/1.1\r\nHost: h\r\n\r\n", kFine},
      {"an absolute target", "GET http://me:KITTIWAKE@h/x HTTP/1.1\r\nHost: h\r\n\r\n", kFine},
      {"Referer", asked + "Referer: http://h/?sid=KITTIWAKE\r\n\r\n", kFine},
      {"Location", asked + "\r\n", "HTTP/1.1 302 Found\r\nLocation: /y?a=b#access_token=KITTIWAKE\r\n\r\n"},
      {"Refresh", asked + "\r\n", "HTTP/1.1 200 OK\r\nRefresh: 0; url=/x?token=KITTIWAKE\r\n\r\n"},
      {"a form", with_body("application/x-www-form-urlencoded", "user=me&pass%77ord=KITTIWAKE&x=y"), kFine},
      {"a form that says nothing of itself", with_body("", "user=me&password=KITTIWAKE"), kFine},
      {"JSON", with_body("application/json", R"({"user":"me","Password" : "KITTIWAKE"})"), kFine},
      {"JSON with an escaped name", with_body("application/json", R"({"pass\u0077ord":"KITTIWAKE"})"), kFine},
      {"JSON with a list", with_body("application/json", R"({"tokens":[["a]"],{"b":"KITTIWAKE"}],"x":1})"), kFine},
      {"JSON with a number", with_body("application/json", R"({"pin":4711008})"), kFine},
      {"JSON that is broken off", with_body("application/json", R"({"password":"KITTIWAKE)"), kFine},
      {"JSON that says nothing of itself", with_body("text/plain", R"({"password":"KITTIWAKE"})"), kFine},
      {"an upload", with_body("multipart/form-data; boundary=b", upload), kFine},
      {"an upload without a boundary", with_body("multipart/form-data", upload), kFine},
      {"a response of JSON", asked + "\r\n", page("application/problem+json", R"({"jwt":"KITTIWAKE"})")},
      {"a response that is a form", asked + "\r\n", page("application/x-www-form-urlencoded", "token=KITTIWAKE")},
  }));
  CAPTURE(row.name);
  const auto holds = [](const std::string& text) {
    return text.find("KITTIWAKE") != text.npos || text.find("4711008") != text.npos;
  };
  const std::string without = text_of({exchange_of(row.request, row.response)}, Secrets::left_out);
  CAPTURE(without);
  CHECK_FALSE(holds(without));
  CHECK(json::parse(without)["log"]["entries"].size() == 1);
  CHECK(holds(text_of({exchange_of(row.request, row.response)}, Secrets::told)));
}

TEST_CASE("what is no secret stays in an archive") {
  const std::string body = R"({"user":"me","password":"x","list":[1,{"port":"TAN"}],"text":"a \" b"})";
  const json archive =
      json::parse(text_of({exchange_of(with_body("application/json", body), kFine)}, Secrets::left_out));
  const json told = json::parse(archive["log"]["entries"][0]["request"]["postData"]["text"].get<std::string>());
  CHECK(told == json::parse(R"x({"user":"me","password":"(left-out)","list":[1,{"port":"TAN"}],"text":"a \" b"})x"));
  const std::string form = "a=1&token=2&c=3";
  const json second = json::parse(
      text_of({exchange_of(with_body("application/x-www-form-urlencoded", form), kFine)}, Secrets::left_out));
  CHECK(second["log"]["entries"][0]["request"]["postData"]["text"] == "a=1&token=(left-out)&c=3");
}

TEST_CASE("a body is in an archive as it was meant, text as text and all else as base64") {
  const auto page = [](const std::string& more, const std::string& body) {
    return "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\n" + more + "Content-Length: " + std::to_string(body.size()) +
           "\r\n\r\n" + body;
  };
  std::string long_text;
  for (int i = 0; i < 20'000; ++i) long_text += "Dünung " + std::to_string(i) + " \"\\\n";
  std::string packed(::compressBound(long_text.size()), '\0');
  uLongf size = packed.size();
  REQUIRE(::compress(reinterpret_cast<Bytef*>(packed.data()), &size, reinterpret_cast<const Bytef*>(long_text.data()),
                     long_text.size()) == Z_OK);
  packed.resize(size);
  const auto content_of = [&](const std::string& response) {
    return json::parse(text_of({exchange_of("GET /x HTTP/1.1\r\n\r\n", response)},
                               Secrets::told))["log"]["entries"][0]["response"]["content"];
  };
  CHECK(content_of(page("", long_text))["text"] == long_text);
  const json inflated = content_of(page("Content-Encoding: deflate\r\n", packed));
  CHECK(inflated["text"] == long_text);
  CHECK(inflated["size"] == long_text.size());
  CHECK(inflated["compression"] == long_text.size() - packed.size());
  const json binary = content_of(page("",
                                      "\xff\xfe"
                                      "abc"));
  CHECK(binary["encoding"] == "base64");
  CHECK(binary["text"] == "//5hYmM=");
  CHECK(content_of("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n4\r\ntide\r\n0\r\n\r\n")["text"] == "tide");
  // It says that it is compressed, and is not.
  CHECK(content_of(page("Content-Encoding: gzip\r\n", "tide"))["text"] == "tide");
}

TEST_CASE("an archive is made in small pieces, has a bound, and says what it leaves out") {
  std::vector<Recorded> all;
  const std::string page = "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: 300000\r\n\r\n";
  for (std::uint64_t number = 1; number <= 40; ++number)
    all.push_back(exchange_of("GET /x HTTP/1.1\r\nHost: h\r\n\r\n", page + std::string(300'000, 'a'), number));
  all[2].request.bytes.clear();  // It has gone meanwhile.
  std::size_t largest = 0;
  HarText::Bounds bounds;
  bounds.all = 3'000'000;
  const std::string text = text_of(all, Secrets::told, bounds, &largest);
  CHECK(text.size() < bounds.all + 200'000);
  CHECK(largest < 200'000);
  const json archive = json::parse(text);
  CHECK(archive["log"]["entries"].size() == 10);
  const std::string comment = archive["log"]["comment"];
  CHECK(comment.find("so the last 29 exchanges are left out") != comment.npos);
  CHECK(comment.find("1 exchanges had to make room") != comment.npos);
  const std::string last = archive["log"]["entries"][9]["response"]["content"]["comment"];
  CHECK(last.find("Only its beginning is here") != last.npos);
}
