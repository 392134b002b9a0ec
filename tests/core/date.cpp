#include "core/http/date.hpp"

#include <catch2/catch.hpp>
#include <ctime>

using namespace porter::http;

TEST_CASE("dates are read in the three forms of RFC 9110 section 5.6.7") {
  struct Row {
    std::string_view text;
    std::int64_t seconds;  // -1: not a date
  };
  const auto row = GENERATE(values<Row>({
      {"Sun, 06 Nov 1994 08:49:37 GMT", 784111777},
      {"Sunday, 06-Nov-94 08:49:37 GMT", 784111777},
      {"Sun Nov  6 08:49:37 1994", 784111777},
      {"Thu, 29 Feb 2024 00:00:00 GMT", 1709164800},
      {"Wed, 29 Feb 2023 00:00:00 GMT", -1},
      {"Sun, 06 Nov 1994 08:49:37", -1},
      {"Sun, 06 Nov 1994 24:00:00 GMT", -1},
      {"Sun, 6 Nov 1994 08:49:37 GMT", -1},
      {"Sun, 06 Non 1994 08:49:37 GMT", -1},
      {"784111777", -1},
      {"", -1},
      {"Sun, 06 Nov 1994 08:49:37 GMT ", -1},
      {"Sun, -6 Nov 1994 08:49:37 GMT", -1},
  }));
  CAPTURE(row.text);
  CHECK(parse_date(row.text, 1700000000).value_or(-1) == row.seconds);
}

TEST_CASE("a two-digit year is the nearest that is not far ahead") {
  CHECK(format_date(*parse_date("Monday, 01-Jan-60 00:00:00 GMT", 1700000000)).substr(12, 4) == "2060");
  CHECK(format_date(*parse_date("Monday, 01-Jan-80 00:00:00 GMT", 1700000000)).substr(12, 4) == "1980");
}

TEST_CASE("dates are written as the C library writes them") {
  for (std::int64_t seconds = 0; seconds < 4102444800; seconds += 86400 * 17 + 4711) {
    const std::time_t time = seconds;
    std::tm parts{};
    ::gmtime_r(&time, &parts);
    char text[64];
    std::strftime(text, sizeof text, "%a, %d %b %Y %H:%M:%S GMT", &parts);
    REQUIRE(format_date(seconds) == text);
    REQUIRE(parse_date(text, 0) == seconds);
  }
}
