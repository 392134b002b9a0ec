#include "core/http/conditions.hpp"

#include <catch2/catch.hpp>

#include "core/http/range.hpp"

using namespace porter::http;

namespace {
std::string text(const std::optional<std::vector<ByteRange>>& ranges) {
  if (!ranges) return "ignored";
  std::string out;
  for (const ByteRange& range : *ranges)
    out += (out.empty() ? "" : " ") + std::to_string(range.offset) + "+" + std::to_string(range.length);
  return out.empty() ? "none" : out;
}
}  // namespace

TEST_CASE("ranges are selected as RFC 9110 section 14.1.2 shows") {
  struct Row {
    std::string_view value;
    std::uint64_t size;
    std::string parts;
  };
  auto row = GENERATE(values<Row>({
      {"bytes=0-499", 10000, "0+500"},
      {"bytes=500-999", 10000, "500+500"},
      {"bytes=-500", 10000, "9500+500"},
      {"bytes=9500-", 10000, "9500+500"},
      {"bytes=0-0,-1", 10000, "0+1 9999+1"},
      {"Bytes = 0-0 , , 5-6", 10000, "0+1 5+2"},
      {"bytes=9990-20000", 10000, "9990+10"},
      {"bytes=10000-", 10000, "none"},
      {"bytes=-0", 10000, "none"},
      {"bytes=-20000", 10000, "0+10000"},
      {"bytes=0-", 0, "none"},
      {"bytes=99999999999999999999999-", 10000, "none"},
      {"bytes=0-99999999999999999999999", 10000, "0+10000"},
      {"bytes=5-4", 10000, "ignored"},
      {"bytes=a-b", 10000, "ignored"},
      {"bytes=-", 10000, "ignored"},
      {"bytes=", 10000, "ignored"},
      {"bytes=1", 10000, "ignored"},
      {"lines=1-2", 10000, "ignored"},
      {"bytes 0-1", 10000, "ignored"},
      {"bytes=0-,0-", 10000, "ignored"},
      {"bytes=4294967296-", 6442450944, "4294967296+2147483648"},
  }));
  CAPTURE(row.value);
  CHECK(text(select_ranges(row.value, row.size)) == row.parts);
}

TEST_CASE("ranges agree with reading them byte by byte") {
  for (std::uint64_t size = 0; size < 6; ++size)
    for (std::uint64_t first = 0; first < 8; ++first)
      for (std::uint64_t last = first; last < 8; ++last) {
        std::string expected;
        std::uint64_t count = 0;
        for (std::uint64_t i = first; i <= last && i < size; ++i) ++count;
        expected = count == 0 ? "none" : std::to_string(first) + "+" + std::to_string(count);
        const std::string value = "bytes=" + std::to_string(first) + "-" + std::to_string(last);
        CHECK(text(select_ranges(value, size)) == expected);
      }
}

TEST_CASE("conditions are evaluated in the order of RFC 9110 section 13.2.2") {
  struct Row {
    std::string method;
    std::string lines;
    std::string verdict;
  };
  const std::string old = "Sun, 06 Nov 1994 08:49:36 GMT";
  const std::string same = "Sun, 06 Nov 1994 08:49:37 GMT";
  const auto row = GENERATE_COPY(values<Row>({
      {"GET", "", "proceed"},
      {"GET", "If-None-Match: \"a\"\r\n", "304"},
      {"GET", "If-None-Match: W/\"a\"\r\n", "304"},
      {"GET", "If-None-Match: \"b\", \"x,y\", \"a\"\r\n", "304"},
      {"GET", "If-None-Match: \"b\"\r\nIf-None-Match: \"a\"\r\n", "304"},
      {"GET", "If-None-Match: *\r\n", "304"},
      {"GET", "If-None-Match: \"b\"\r\n", "proceed"},
      {"GET", "If-None-Match: a\r\n", "proceed"},
      {"POST", "If-None-Match: \"a\"\r\n", "412"},
      {"GET", "If-None-Match: \"b\"\r\nIf-Modified-Since: " + same + "\r\n", "proceed"},
      {"GET", "If-Modified-Since: " + same + "\r\n", "304"},
      {"GET", "If-Modified-Since: " + old + "\r\n", "proceed"},
      {"GET", "If-Modified-Since: yesterday\r\n", "proceed"},
      {"POST", "If-Modified-Since: " + same + "\r\n", "proceed"},
      {"GET", "If-Match: \"a\"\r\n", "proceed"},
      {"GET", "If-Match: W/\"a\"\r\n", "412"},
      {"GET", "If-Match: *\r\n", "proceed"},
      {"GET", "If-Match: \"b\"\r\n", "412"},
      {"GET", "If-Match: \"a\"\r\nIf-Unmodified-Since: " + old + "\r\n", "proceed"},
      {"GET", "If-Unmodified-Since: " + old + "\r\n", "412"},
      {"GET", "If-Unmodified-Since: " + same + "\r\n", "proceed"},
      {"GET", "If-Match: \"a\"\r\nIf-None-Match: \"a\"\r\n", "304"},
  }));
  CAPTURE(row.lines);
  const std::string bytes = row.method + " / HTTP/1.1\r\n" + row.lines + "\r\n";
  const auto head = std::get<RequestHead>(parse_head(bytes, {}));
  const Verdict verdict = evaluate_conditions(head, {"\"a\"", 784111777}, 1700000000);
  CHECK((verdict == Verdict::proceed ? "proceed" : verdict == Verdict::not_modified ? "304" : "412") == row.verdict);
}

TEST_CASE("a date proves nothing about a file changed a moment ago") {
  const std::string bytes = "GET / HTTP/1.1\r\nIf-Modified-Since: Sun, 06 Nov 1994 08:49:37 GMT\r\n\r\n";
  const auto head = std::get<RequestHead>(parse_head(bytes, {}));
  CHECK(evaluate_conditions(head, {"\"a\"", 784111777}, 784111778) == Verdict::proceed);
}

TEST_CASE("If-Range lets a range through only for the very same state") {
  struct Row {
    std::string value;
    bool applies;
  };
  const auto row = GENERATE(values<Row>({{"\"a\"", true},
                                         {"W/\"a\"", false},
                                         {"\"b\"", false},
                                         {"Sun, 06 Nov 1994 08:49:37 GMT", true},
                                         {"Sun, 06 Nov 1994 08:49:38 GMT", false},
                                         {"never", false}}));
  CAPTURE(row.value);
  const std::string bytes = "GET / HTTP/1.1\r\nIf-Range: " + row.value + "\r\n\r\n";
  const auto head = std::get<RequestHead>(parse_head(bytes, {}));
  CHECK(range_applies(head, {"\"a\"", 784111777}, 1700000000) == row.applies);
}

TEST_CASE("codings are accepted by name or star, and refused by a weight of zero") {
  struct Row {
    std::string_view value;
    bool accepted;
  };
  const auto row = GENERATE(values<Row>({{"gzip, deflate, br", true},
                                         {"", false},
                                         {"br", false},
                                         {"GZIP;q=0.1", true},
                                         {"gzip;q=0", false},
                                         {"gzip; q=0.000", false},
                                         {"*", true},
                                         {"*;q=0", false},
                                         {"gzip;q=0, *", false},
                                         {"identity", false}}));
  CAPTURE(row.value);
  CHECK(accepts_coding(row.value, "gzip") == row.accepted);
}
