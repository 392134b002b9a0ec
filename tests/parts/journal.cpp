// The journal and its lines: order, what is kept, what is lost.
#include "server/record/journal.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <array>
#include <catch2/catch.hpp>

#include "server/record/log_line.hpp"
#include "support/support.hpp"

using namespace porter;
using namespace porter::server;

namespace {

/// An exchange that ended `milliseconds` after a time that all share.
Exchange ended(int milliseconds, const std::string& target, int status = 200, const char* site = nullptr) {
  static const auto kZero = std::chrono::steady_clock::now() - std::chrono::seconds(10);
  Exchange exchange;
  exchange.begun = kZero;
  exchange.time = std::chrono::system_clock::now();
  exchange.duration = std::chrono::milliseconds(milliseconds);
  exchange.method = "GET";
  exchange.target = target;
  exchange.status = status;
  exchange.by = ByFile{};
  if (site != nullptr) exchange.site = std::make_shared<const std::string>(site);
  return exchange;
}

template <typename... More>
std::vector<Exchange> batch(More&&... more) {
  std::vector<Exchange> out;
  (out.push_back(std::move(more)), ...);
  return out;
}

/// A journal that writes into a pipe.
class Written {
 public:
  Written() {
    REQUIRE(::pipe2(ends_.data(), O_CLOEXEC) == 0);
    journal_ = std::make_unique<Journal>(ends_[1], Journal::Keep::last, Colour::on);
  }
  ~Written() {
    ::close(ends_[0]);
    ::close(ends_[1]);
  }
  Journal& journal() { return *journal_; }
  /// What it has written and was not read before.
  std::string more() {
    std::string out(1 << 20, '\0');
    ::fcntl(ends_[0], F_SETFL, O_NONBLOCK);
    const ssize_t got = ::read(ends_[0], out.data(), out.size());
    out.resize(static_cast<std::size_t>(std::max<ssize_t>(got, 0)));
    return out;
  }
  /// The rest of it, once it has ended.
  std::string text() {
    journal_.reset();
    return more();
  }

 private:
  std::array<int, 2> ends_{};
  std::unique_ptr<Journal> journal_;
};

/// The targets of what is kept, in their order.
std::string kept_in(Journal& journal, const Journal::Filter& filter = {}, std::size_t most = 100) {
  std::string out;
  for (const Journal::Kept& kept : journal.kept(0, most, filter).lines)
    out +=
        (out.empty() ? "" : " ") + (kept.exchange ? kept.exchange->target : kept.note.substr(0, kept.note.size() - 1));
  return out;
}

bool has_kept(Journal& journal, std::size_t count) {
  return porter::test::eventually([&] { return journal.kept(0, 1000, {}).lines.size() == count; });
}

}  // namespace

TEST_CASE("lines of several workers stand in the order in which their answers ended") {
  Written written;
  written.journal().record(batch(ended(10, "/b"), ended(30, "/d")));
  written.journal().record(batch(ended(0, "/a"), ended(20, "/c"), ended(40, "/e")));
  REQUIRE(has_kept(written.journal(), 5));
  CHECK(kept_in(written.journal()) == "/a /b /c /d /e");
  const std::string text = written.text();
  CHECK(text.find("/a") < text.find("/b"));
  CHECK(text.find("/d") < text.find("/e"));
}

TEST_CASE("what is kept can be asked for by site, by failure, by number and from a number on") {
  Written written;
  written.journal().record(batch(ended(1, "/a", 200, "fares"), ended(2, "/b", 404, "tides"), ended(3, "/c", 0, "tides"),
                                 ended(4, "/d", 500)));
  REQUIRE(has_kept(written.journal(), 4));
  written.journal().write_note("a note\n");
  REQUIRE(has_kept(written.journal(), 5));
  Journal::Filter tides;
  tides.site = "tides";
  Journal::Filter failed;
  failed.only_errors = true;
  CHECK(kept_in(written.journal(), tides) == "/b /c");
  CHECK(kept_in(written.journal(), failed) == "/b /c /d a note");
  CHECK(kept_in(written.journal(), {}, 2) == "/d a note");
  CHECK(written.journal().kept(4, 100, {}).lines.size() == 1);
  CHECK(written.journal().kept(5, 100, {}).lines.empty());
  CHECK(written.journal().kept(5, 100, {}).next == 5);
}

TEST_CASE("who has subscribed is told of each news until the end of the subscription") {
  Written written;
  std::atomic<int> told = 0;
  const auto number = written.journal().subscribe([&] { ++told; });
  written.journal().record(batch(ended(1, "/a")));
  CHECK(porter::test::eventually([&] { return told == 1; }));
  written.journal().unsubscribe(number);
  written.journal().record(batch(ended(2, "/b")));
  REQUIRE(has_kept(written.journal(), 2));
  CHECK(told == 1);
}

TEST_CASE("what nobody reads is dropped, and its number is told once there is room again") {
  Written written;
  constexpr std::size_t kAll = 30000;
  const std::string long_target = "/" + std::string(300, 't');
  for (std::size_t i = 0; i < kAll / 500; ++i) {
    std::vector<Exchange> many;
    for (int j = 0; j < 500; ++j) many.push_back(ended(1, long_target));
    written.journal().record(std::move(many));
  }
  // Only a reader who begins when all have been judged sees them counted once.
  REQUIRE(porter::test::eventually([&] { return written.journal().kept(kAll, 1, {}).next == kAll; }));
  std::string text;
  const auto reads = [&](std::string_view until) {
    return porter::test::eventually([&] {
      text += written.more();
      return text.find(until) != text.npos;
    });
  };
  REQUIRE(reads("could not be written"));
  written.journal().record(batch(ended(2, "/last")));
  REQUIRE(reads("/last"));
  const std::size_t told = text.find(" lines could not be written)");
  REQUIRE(told != text.npos);
  const std::size_t lost = std::stoul(text.substr(text.rfind('(', told) + 1));
  std::size_t lines = 0;
  for (std::size_t at = 0; (at = text.find("/ttt", at)) != text.npos; ++at) ++lines;
  CHECK(lines > 0);
  CHECK(lines + lost == kAll);
}

TEST_CASE("a line tells what answered, the way there included") {
  struct Row {
    const char* name;
    std::function<void(Exchange&)> change;
    std::string said;
  };
  const std::vector<Row> rows = {
      {"a file", [](Exchange&) {}, "file"},
      {"a script after a local redirect",
       [](Exchange& exchange) {
         exchange.by = ByFile{};
         exchange.runs.emplace_back();
         exchange.runs.back().runner = "perl";
         exchange.runs.back().script = "/srv/go.pl";
         exchange.runs.back().redirected_to = "/a.txt";
       },
       "perl /srv/go.pl leads to /a.txt; file"},
      {"a client that left", [](Exchange& exchange) { exchange.by = std::monostate{}; }, ""},
      {"a redirect", [](Exchange& exchange) { exchange.by = ByRedirect{"/list/"}; }, "redirect to /list/"},
  };
  for (const Row& row : rows) {
    CAPTURE(row.name);
    Exchange exchange = ended(1, "/x");
    row.change(exchange);
    CHECK(answered_by(exchange).find(row.said) != std::string::npos);
  }
}

TEST_CASE("a line has colour codes only where they are asked for, and nothing of the client's is taken for one") {
  Exchange exchange = ended(1, "/\x1b[31mred\n", 500);
  std::string plain;
  append_log_line(plain, exchange, Colour::off);
  CHECK(plain.find('\x1b') == plain.npos);
  CHECK(std::count(plain.begin(), plain.end(), '\n') == 1);
  std::string coloured;
  append_log_line(coloured, exchange, Colour::on);
  CHECK(coloured.starts_with('\x1b'));
}

TEST_CASE("what scripts wrote to their error streams stands below the line of the request, marked and counted") {
  Exchange exchange = ended(1, "/page.php");
  exchange.runs.emplace_back();
  exchange.runs.back().error_lines = {"PHP Warning:  Shop\\Router", "a\x1b[31mb"};
  exchange.runs.back().more_error_lines = 3;
  std::string plain;
  append_log_line(plain, exchange, Colour::off);
  CHECK(std::count(plain.begin(), plain.end(), '\n') == 4);
  CHECK(plain.find("\n              ! PHP Warning:  Shop\\Router\n") != plain.npos);
  CHECK(plain.find("! a\\x1b[31mb\n") != plain.npos);
  CHECK(plain.ends_with("! … and 3 more lines\n"));
}
