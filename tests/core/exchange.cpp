// Exchanges as values: messages read from what was kept, changes made in them, and what differs between two.
#include <catch2/catch.hpp>

#include "core/exchange/base64.hpp"
#include "core/exchange/change.hpp"
#include "core/exchange/difference.hpp"
#include "core/exchange/har.hpp"
#include "core/exchange/message.hpp"
#include "core/text/json.hpp"

using namespace porter::exchange;
using nlohmann::json;

namespace {

Side side(const std::string& page, const std::string& type) {
  Side out;
  out.status = 200;
  out.type = type;
  out.fields = {{"Content-Type", type}, {"Date", page + "?"}};
  out.page = page;
  return out;
}

}  // namespace

TEST_CASE("a message is read as it was meant, as far as it is there") {
  struct Row {
    const char* name;
    std::string bytes;
    std::string start_line;
    std::size_t fields;
    std::string body;
    std::string problem;
  };
  for (const Row& row : std::vector<Row>{
           {"plain", "HTTP/1.1 200 OK\r\nA: b\r\nContent-Length: 4\r\n\r\ntide", "HTTP/1.1 200 OK", 2, "tide", ""},
           {"more than announced", "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\ntide", "HTTP/1.1 200 OK", 1, "ti", ""},
           {"less", "HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\ntide", "HTTP/1.1 200 OK", 1, "tide",
            "only a part of it is there"},
           {"interim answers",
            "HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 103 Early\r\nX: y\r\n\r\nHTTP/1.1 204 Fine\r\n\r\n",
            "HTTP/1.1 204 Fine", 0, "", ""},
           {"chunks", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2;x\r\nti\r\n2\r\nde\r\n0\r\n\r\n",
            "HTTP/1.1 200 OK", 1, "tide", ""},
           {"chunks without end", "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n4\r\ntide\r\n",
            "HTTP/1.1 200 OK", 1, "tide", "its last chunk is missing"},
           {"broken chunks", "POST / HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n", "POST / HTTP/1.1", 1, "",
            "its chunks are broken"},
           {"bare line feeds", "GET /x HTTP/1.1\nA: b\n\nbody", "GET /x HTTP/1.1", 1, "body", ""},
           {"half a head", "GET /x HTT", "GET /x HTT", 0, "", ""},
           {"nothing", "", "", 0, "", ""}}) {
    CAPTURE(row.name);
    const Message message = read_message(row.bytes);
    CHECK(message.start_line == row.start_line);
    CHECK(message.fields.size() == row.fields);
    const Body body = read_body(message, row.bytes, 1000);
    CHECK(body.bytes == row.body);
    CHECK(body.problem == row.problem);
  }
}

TEST_CASE("bodies are told apart") {
  struct Row {
    std::string type;
    std::string body;
    BodyKind kind;
  };
  for (const Row& row : std::vector<Row>{{"text/html", "<p>", BodyKind::text},
                                         {"application/json; charset=utf-8", "{}", BodyKind::json},
                                         {"application/problem+json", "{}", BodyKind::json},
                                         {"application/x-www-form-urlencoded", "a=b", BodyKind::form},
                                         {"multipart/form-data; boundary=x", "--x", BodyKind::upload},
                                         {"text/plain", std::string("a\0b", 3), BodyKind::binary},
                                         {"image/png", "\x89PNG\x1a", BodyKind::binary},
                                         {"", "tide", BodyKind::text},
                                         {"text/html", "", BodyKind::none}}) {
    CAPTURE(row.type, row.body);
    Message message;
    message.fields.emplace_back("content-type", row.type);
    CHECK(kind_of_body(message, row.body) == row.kind);
  }
  using Pairs = std::vector<std::pair<std::string, std::string>>;
  CHECK(form_fields("a=1+2&b=%C3%A4&c&=d&&e=%zz") ==
        Pairs{{"a", "1 2"}, {"b", "\xc3\xa4"}, {"c", ""}, {"", "d"}, {"e", "%zz"}});
  CHECK(hex_dump("tide\n") == "00000000  74 69 64 65 0a                                    tide.\n");
}

TEST_CASE("a request is changed in what is named, and in nothing else") {
  const std::string request = "POST /book HTTP/1.1\r\nHost: a\r\nX-Quay:  one\r\nContent-Length: 4\r\n\r\ntide";
  struct Row {
    const char* name;
    Change change;
    std::string wanted;
  };
  const std::string end = "Content-Length: 4\r\n\r\ntide";
  for (const Row& row :
       std::vector<Row>{{"nothing", {}, request},
                        {"method", {"PUT", "", {}, {}, {}}, "PUT /book HTTP/1.1\r\nHost: a\r\nX-Quay: one\r\n" + end},
                        {"target", {"", "/x?y", {}, {}, {}}, "POST /x?y HTTP/1.1\r\nHost: a\r\nX-Quay: one\r\n" + end},
                        {"a field",
                         {"", "", {{"x-quay", "two"}}, {}, {}},
                         "POST /book HTTP/1.1\r\nHost: a\r\nx-quay: two\r\n" + end},
                        {"a new field",
                         {"", "", {{"A", "b"}}, {}, {}},
                         "POST /book HTTP/1.1\r\nHost: a\r\nX-Quay: one\r\nContent-Length: 4\r\nA: b\r\n\r\ntide"},
                        {"without one", {"", "", {}, {"X-QUAY"}, {}}, "POST /book HTTP/1.1\r\nHost: a\r\n" + end},
                        {"the body",
                         {"", "", {}, {}, "fog"},
                         "POST /book HTTP/1.1\r\nHost: a\r\nX-Quay: one\r\nContent-Length: 3\r\n\r\nfog"}}) {
    CAPTURE(row.name);
    CHECK(changed_request(request, row.change) == row.wanted);
  }
  const std::string chunked = "PUT / HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n";
  Change change;
  change.body = "fog";
  CHECK(changed_request(chunked, change) == "PUT / HTTP/1.1\r\nContent-Length: 3\r\n\r\nfog");
}

TEST_CASE("base64 is read as it is written") {
  for (const std::string& bytes :
       {std::string(), std::string("f"), std::string("fo"), std::string("fog"), std::string("\0\xff\x10tide", 7)})
    CHECK(from_base64(to_base64(bytes)) == bytes);
  CHECK(to_base64("fo") == "Zm8=");
  CHECK_FALSE(from_base64("Zm8?").has_value());
}

TEST_CASE("what differs is told, and what always does is left out and counted") {
  const json lines = difference(side("a\nb\nc\nd\ne\nf\n", "text/plain"), side("a\nb\nc\nD\ne\nf\n", "text/plain"));
  CHECK(lines["alike"] == false);
  CHECK(lines["fields_left_out"] == 1);
  CHECK(lines["names_left_out"].size() == 1);
  CHECK(lines["fields"].empty());
  CHECK(lines["page"]["lines"][3] == json({{"mark", "-"}, {"text", "d"}, {"left", 4}}));
  CHECK(lines["page"]["lines"][4] == json({{"mark", "+"}, {"text", "D"}, {"right", 4}}));
  Side chunked = side("x", "text/plain");
  chunked.fields = {{"Content-Type", "text/plain"}, {"Transfer-Encoding", "chunked"}};
  Side counted = side("x", "text/plain");
  counted.fields = {{"Content-Type", "text/plain"}, {"Content-Length", "1"}};
  CHECK(difference(chunked, counted)["alike"] == true);
  CHECK(difference(chunked, counted)["fields_left_out"] == 2);
  const json same = difference(side("x", "text/plain"), side("x", "text/plain"));
  CHECK(same["alike"] == true);
  const std::string type = "application/json";
  CHECK(difference(side(R"({"a": 1, "b": [1, 2]})", type), side(R"({"b":[1,2],"a":1})", type))["alike"] == true);
  const json places = difference(side(R"({"a/b": 1, "c": [1]})", type), side(R"({"a/b": 2, "c": [1, 2]})", type));
  CHECK(places["page"]["places"] ==
        json::array({{{"place", "/a~1b"}, {"left", 1}, {"right", 2}}, {{"place", "/c/1"}, {"right", 2}}}));
  const json bytes = difference(side(std::string("a\0b", 3), ""), side(std::string("a\0c", 3), ""));
  CHECK(bytes["page"]["first_difference"] == 2);
  // Two long pages without a line in common are not searched for one.
  std::string left;
  std::string right;
  for (int i = 0; i < 20'000; ++i) {
    left += "l" + std::to_string(i) + "\n";
    right += "r" + std::to_string(i) + "\n";
  }
  const json page = difference(side(left, "text/plain"), side(right, "text/plain"))["page"];
  CHECK(page["lines"].size() == 2000);
  CHECK(page["more"] == 38'000);
  Side other = side("x", "text/plain");
  other.runs.emplace_back();
  other.runs[0].exit_status = 3;
  CHECK(difference(side("x", "text/plain"), other)["alike"] == false);
}

TEST_CASE("an entry of an archive is a side, and what is none is told") {
  struct Row {
    std::string text;
    std::size_t number;
    std::string problem;
  };
  const std::string good =
      R"({"log":{"entries":[{"response":{"status":201,"headers":[{"name":"A","value":"b"}],"content":{"text":"Zm9n","encoding":"base64"}}}]}})";
  for (const Row& row : std::vector<Row>{{"fog", 1, "it is not a HAR: there are no entries in it"},
                                         {"[]", 1, "it is not a HAR: there are no entries in it"},
                                         {good, 2, "it has 1 entries, and number 2 is none of them"},
                                         {good, 0, "it has 1 entries, and number 0 is none of them"},
                                         {R"({"log":{"entries":[3]}})", 1, "entry 1 has no response"}}) {
    CAPTURE(row.text);
    const auto told = side_in_har(row.text, row.number, "x");
    REQUIRE(std::holds_alternative<std::string>(told));
    CHECK(std::get<std::string>(told) == row.problem);
  }
  const auto entry = std::get<Side>(side_in_har(good, 1, "good.har#1"));
  CHECK(entry.page == "fog");
  CHECK(entry.status == 201);
}

TEST_CASE("what nests without bound, or differs without end, is told in bounded pieces") {
  const std::string type = "application/json";
  const auto nested = [](std::size_t levels, const std::string& inner) {
    return std::string(levels, '[') + inner + std::string(levels, ']');
  };
  CHECK(difference(side(nested(128, "1"), type), side(nested(128, "2"), type))["page"]["kind"] == "json");
  // Deeper it is text.
  for (const std::size_t levels : {129UL, 25'000UL}) {
    const json told = difference(side(nested(levels, "1"), type), side(nested(levels, "2"), type));
    CHECK(told["page"]["kind"] == "text");
    CHECK(told["alike"] == false);
    CHECK(difference(side(nested(levels, "1"), type), side(nested(levels, "1"), type))["alike"] == true);
  }
  std::string many = "[0";
  for (int i = 1; i < 5000; ++i) many += "," + std::to_string(i);
  std::string others = "[1";
  for (int i = 1; i < 5000; ++i) others += "," + std::to_string(i + 1);
  const json places = difference(side(many + "]", type), side(others + "]", type))["page"];
  CHECK(places["places"].size() == 1000);
  CHECK(places["more"] == 4000);
  const json large = difference(side("[\"" + std::string(100'000, 'a') + "\"]", type), side("[1]", type))["page"];
  CHECK(large["places"][0]["left_bytes"] == 100'002);
  CHECK(large["places"][0]["left"].get<std::string>().size() < 3000);
  const json line = difference(side(std::string(100'000, 'a'), "text/plain"), side("b", "text/plain"))["page"];
  CHECK(line["lines"][0]["text"].get<std::string>().size() < 3000);
}
