// The writer, at one end of a pair of sockets: heads, framing, counting, and what becomes of the connection.
#include "server/response/writer.hpp"

#include <fcntl.h>
#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/io_context.hpp>
#include <catch2/catch.hpp>
#include <functional>

#include "core/files/descriptor.hpp"
#include "core/http/head.hpp"
#include "server/connection/body_reader.hpp"
#include "server/connection/input_buffer.hpp"
#include "support/support.hpp"

using namespace porter;
using namespace porter::server;

namespace {

/// What a response came to.
struct Came {
  std::string text;  ///< What the client got, without the Date line.
  Exchange exchange;
  bool keeps = false;
};

using Answering = std::function<asio::awaitable<void>(Writer&)>;

/// Answers the request with the head `bytes` by `answering`.
Came answer(const std::string& bytes, Answering answering, const ResponseHeaders* of_site = nullptr) {
  std::array<int, 2> ends{};
  REQUIRE(::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends.data()) == 0);
  asio::io_context context(1);
  Came came;
  {
    Transport transport(Transport::Socket(context, asio::generic::stream_protocol(AF_UNIX, 0), ends[0]));
    InputBuffer input;
    DateLine date;
    // Each refers to the other, as in a turn.
    struct Both {
      Both(Transport& transport, InputBuffer& input, DateLine& date, Exchange& exchange)
          : writer(transport, body, date, exchange), body(transport, input, writer) {}
      Writer writer;
      BodyReader body;
    } both(transport, input, date, came.exchange);
    const auto head = std::get<http::RequestHead>(http::parse_head(bytes, {}));
    both.writer.answers(head);
    both.writer.set_site_fields(of_site);
    asio::co_spawn(context, answering(both.writer), [](const std::exception_ptr& error) {
      if (error) std::rethrow_exception(error);
    });
    context.run();
    came.keeps = both.writer.keeps_connection();
  }
  std::string text(1 << 20, '\0');
  std::size_t length = 0;
  for (ssize_t got = 0; (got = ::read(ends[1], text.data() + length, text.size() - length)) > 0;)
    length += static_cast<std::size_t>(got);
  ::close(ends[1]);
  text.resize(length);
  const std::size_t at = text.find("Date: ");
  if (at != text.npos) text.erase(at, text.find("\r\n", at) + 2 - at);
  came.text = text;
  return came;
}

ResponseHead head_of(int status, std::optional<std::uint64_t> length) {
  ResponseHead head;
  head.status = status;
  head.fields = {{"Content-Type", "text/plain"}};
  head.length = length;
  return head;
}

/// A response of two parts, "high" and " tide", whose length is told as `length`.
Answering two_parts(int status, std::optional<std::uint64_t> length) {
  return [=](Writer& writer) -> asio::awaitable<void> {
    writer.begin(head_of(status, length));
    const bool first = co_await writer.body("high");
    const bool second = co_await writer.body(" tide");
    const bool ended = co_await writer.end();
    static_cast<void>(first && second && ended);
  };
}

const std::string kGet = "GET / HTTP/1.1\r\nHost: x\r\n\r\n";
const std::string kOk = "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\n";

}  // namespace

TEST_CASE("answers are framed as the request and their length allow") {
  struct Row {
    const char* name;
    std::string request;
    int status;
    std::optional<std::uint64_t> length;
    std::string text;
    std::uint64_t counted;
    bool keeps;
  };
  const std::vector<Row> rows = {
      {"a known length", kGet, 200, 9, kOk + "Content-Length: 9\r\n\r\nhigh tide", 9, true},
      {"no length",
       kGet,
       200,
       {},
       kOk + "Transfer-Encoding: chunked\r\n\r\n4\r\nhigh\r\n5\r\n tide\r\n0\r\n\r\n",
       9,
       true},
      {"no length for HTTP/1.0",
       "GET / HTTP/1.0\r\nConnection: keep-alive\r\n\r\n",
       200,
       {},
       kOk + "Connection: close\r\n\r\nhigh tide",
       9,
       false},
      {"a kept connection of HTTP/1.0", "GET / HTTP/1.0\r\nConnection: keep-alive\r\n\r\n", 200, 9,
       kOk + "Content-Length: 9\r\nConnection: keep-alive\r\n\r\nhigh tide", 9, true},
      {"a client that wants no more", "GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n", 200, 9,
       kOk + "Content-Length: 9\r\nConnection: close\r\n\r\nhigh tide", 9, false},
      {"HEAD", "HEAD / HTTP/1.1\r\nHost: x\r\n\r\n", 200, 9, kOk + "Content-Length: 9\r\n\r\n", 0, true},
      {"HEAD without a length",
       "HEAD / HTTP/1.1\r\nHost: x\r\n\r\n",
       200,
       {},
       kOk + "Transfer-Encoding: chunked\r\n\r\n",
       0,
       true},
      {"a status without a body", kGet, 304, 9, "HTTP/1.1 304 Not Modified\r\nContent-Type: text/plain\r\n\r\n", 0,
       true},
      {"more than was announced", kGet, 200, 6, kOk + "Content-Length: 6\r\n\r\nhigh t", 6, true},
      {"less than was announced", kGet, 200, 12, kOk + "Content-Length: 12\r\n\r\nhigh tide", 9, false},
  };
  for (const Row& row : rows) {
    CAPTURE(row.name);
    const Came came = answer(row.request, two_parts(row.status, row.length));
    CHECK(came.text == row.text);
    CHECK(came.exchange.status == row.status);
    CHECK(came.exchange.body_bytes == row.counted);
    CHECK(came.keeps == row.keeps);
  }
}

TEST_CASE("what lies in several pieces goes out as one part of the body, as far as its length goes") {
  struct Row {
    const char* name;
    std::string request;
    std::optional<std::uint64_t> length;
    std::string text;
    std::uint64_t counted;
  };
  const std::vector<Row> rows = {
      {"no length", kGet, {}, kOk + "Transfer-Encoding: chunked\r\n\r\n9\r\nhigh tide\r\n0\r\n\r\n", 9},
      {"a known length", kGet, 9, kOk + "Content-Length: 9\r\n\r\nhigh tide", 9},
      {"a length that ends within one", kGet, 6, kOk + "Content-Length: 6\r\n\r\nhigh t", 6},
      {"a length that ends before one", kGet, 4, kOk + "Content-Length: 4\r\n\r\nhigh", 4},
      {"HEAD", "HEAD / HTTP/1.1\r\nHost: x\r\n\r\n", 9, kOk + "Content-Length: 9\r\n\r\n", 0},
  };
  for (const Row& row : rows) {
    CAPTURE(row.name);
    const Came came = answer(row.request, [&](Writer& writer) -> asio::awaitable<void> {
      run::Pieces pieces;
      for (const std::string_view piece : {"high", "", " ", "ti", "de"}) pieces.add(piece);
      writer.begin(head_of(200, row.length));
      co_await writer.body(pieces, {});
      co_await writer.end();
    });
    CHECK(came.text == row.text);
    CHECK(came.exchange.body_bytes == row.counted);
    CHECK(came.keeps);
  }
}

TEST_CASE("a site's fields are added to those answers that have none of the name") {
  const ResponseHeaders of_site = {{"X-Harbour", "Skerry Head"}, {"content-type", "text/html"}};
  const Came came = answer(kGet, two_parts(200, 9), &of_site);
  CHECK(came.text == kOk + "X-Harbour: Skerry Head\r\nContent-Length: 9\r\n\r\nhigh tide");
}

TEST_CASE("parts of files go between bytes, and one that has become shorter cuts the response off") {
  porter::test::TempFolder folder;
  const std::string path = folder.write("chart", std::string(100000, 'c'));
  const porter::files::Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
  for (const bool is_short : {false, true}) {
    const std::uint64_t length = is_short ? 100001 : 1000;
    const Came came = answer(kGet, [&](Writer& writer) -> asio::awaitable<void> {
      writer.begin(head_of(200, length + 2));
      const FilePart part{file.get(), 0, length};
      co_await writer.body("<", part);
      co_await writer.body(">");
      co_await writer.end();
    });
    CHECK(came.keeps == !is_short);
    CHECK(came.exchange.body_bytes == (is_short ? 100001 : 1002));
    CHECK(came.text.ends_with(is_short ? "c" : "c>"));
  }
}

TEST_CASE("a program that speaks directly is passed on as it is, and its status is noted") {
  const Came came = answer(kGet, [](Writer& writer) -> asio::awaitable<void> {
    writer.begin_directly();
    co_await writer.body("HTTP/1.1 299 High water\r\n\r\nhigh");
  });
  CHECK(came.text == "HTTP/1.1 299 High water\r\n\r\nhigh");
  CHECK(came.exchange.status == 299);
  CHECK_FALSE(came.keeps);
}
