#include "core/text/text.hpp"

#include <catch2/catch.hpp>

using namespace porter::text;

TEST_CASE("nothing in a line can move, hide or forge text") {
  struct Row {
    std::string_view text;
    std::string escaped;
  };
  const auto row = GENERATE(values<Row>({
      {"/plain?a=b", "/plain?a=b"},
      {"a\nb", "a\\x0ab"},
      {"\x1b[31m", "\\x1b[31m"},
      {"a\\n", "a\\n"},
      {"caf\xc3\xa9", "caf\xc3\xa9"},
      {"\xff", "\\xff"},
      {"\xc0\xaf", "\\xc0\\xaf"},           // overlong
      {"\xed\xa0\x80", "\\xed\\xa0\\x80"},  // surrogate
      {"\xf5\x80\x80\x80", "\\xf5\\x80\\x80\\x80"},
      {"\xc2\x9b"
       "31m",
       "\\xc2\\x9b"
       "31m"},                              // C1 control
      {"\xe2\x80\xae", "\\xe2\\x80\\xae"},  // right-to-left override
      {"\xe2\x80\xa8", "\\xe2\\x80\\xa8"},  // line separator
      {"\xf0\x9f\x90\xa6", "\xf0\x9f\x90\xa6"},
      {"\xe2\x82", "\\xe2\\x82"},
      {"\x7f", "\\x7f"},
  }));
  CAPTURE(row.text);
  CHECK(escape_line(row.text) == row.escaped);
}

TEST_CASE("HTML and shell words are quoted for where they go") {
  CHECK(escape_html("<a href=\"x\">&'\xff") == "&lt;a href=&quot;x&quot;&gt;&amp;&#39;\xef\xbf\xbd");
  CHECK(shell_word("/srv/www/a.html") == "/srv/www/a.html");
  CHECK(shell_word("it's here") == "\"it's here\"");
  CHECK(shell_word("it's $HOME") == "'it'\\''s $HOME'");
  CHECK(shell_word("") == "''");
}

TEST_CASE("sizes are short and true to a tenth") {
  struct Row {
    std::uint64_t bytes;
    std::string text;
  };
  const auto row = GENERATE(values<Row>({{0, "0 B"},
                                         {999, "999 B"},
                                         {1000, "1000 B"},
                                         {1024, "1.0 KiB"},
                                         {1048524, "1023.9 KiB"},
                                         {6442450944, "6.0 GiB"}}));
  CHECK(format_size(row.bytes) == row.text);
}

TEST_CASE("lines are broken at spaces to fit, and nothing else in them changes") {
  struct Row {
    std::string text;
    std::size_t width;
    std::string wrapped;
  };
  const auto row = GENERATE(values<Row>({
      {"high water at 07:40\nlow\n", 0, "high water at 07:40\nlow\n"},
      {"high water at 07:40\nlow\n", 12, "high water\n  at 07:40\nlow\n"},
      {"a  /srv/ferries/harbour/office", 10, "a\n  /srv/ferries/harbour/office"},
      {"\x1b[1;31mhigh\x1b[0m water", 10, "\x1b[1;31mhigh\x1b[0m water"},
      {"höhe wäre", 9, "höhe wäre"},
  }));
  CHECK(wrap(row.text, row.width, 2) == row.wrapped);
}

TEST_CASE("the nearest name is the one that was meant") {
  const std::vector<std::string> names = {"index.html", "timetable.html", "tides.pl", "notices.php", "Photos"};
  struct Row {
    std::string_view wanted;
    std::string nearest;
  };
  const auto row = GENERATE(values<Row>({{"indx.html", "index.html"},
                                         {"timetable", "timetable.html"},
                                         {"timetable.htm", "timetable.html"},
                                         {"tiedtable.html", "timetable.html"},
                                         {"photos", "Photos"},
                                         {"notice.php", "notices.php"},
                                         {"harbour", ""},
                                         {"", ""}}));
  CAPTURE(row.wanted);
  CHECK(nearest(row.wanted, names).value_or("") == row.nearest);
}

TEST_CASE("looking for the nearest of very many names ends after a bounded amount of work") {
  NearestName nearest(std::string(200, 'q') + "tide");
  std::size_t considered = 0;
  while (!nearest.is_exhausted() && considered < 100000) {
    nearest.consider(std::string(190, 'q') + "tides" + std::to_string(considered));
    ++considered;
  }
  CHECK(nearest.is_exhausted());
  CHECK(considered < 2000);
  CHECK(nearest.best());
}
