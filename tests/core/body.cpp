#include "core/http/body.hpp"

#include <catch2/catch.hpp>

using namespace porter::http;

namespace {
std::string framing(const std::string& lines, const std::string& version = "1.1", const std::string& end = "\r\n") {
  const std::string bytes = "POST / HTTP/" + version + end + lines + end;
  const auto head = std::get<RequestHead>(parse_head(bytes, {}));
  const auto result = body_framing(head);
  if (const auto* const error = std::get_if<FramingError>(&result)) {
    switch (*error) {
      case FramingError::both:
        return "both";
      case FramingError::bad_length:
        return "bad length";
      case FramingError::unknown_coding:
        return "unknown coding";
      case FramingError::coding_in_1_0:
        return "coding in 1.0";
      case FramingError::body_with_bare_lines:
        return "bare lines";
    }
  }
  const auto& known = std::get<BodyFraming>(result);
  if (known.kind == BodyFraming::Kind::chunked) return "chunked";
  return known.kind == BodyFraming::Kind::none ? "none" : "length " + std::to_string(known.length);
}
}  // namespace

TEST_CASE("a head announces its body as RFC 9112 section 6.3 says") {
  struct Row {
    std::string lines;
    std::string framing;
  };
  const auto row = GENERATE(values<Row>({
      {"", "none"},
      {"Content-Length: 0\r\n", "length 0"},
      {"Content-Length: 12\r\n", "length 12"},
      {"content-length: 007\r\n", "length 7"},
      {"Content-Length: 1\r\nContent-Length: 2\r\n", "bad length"},
      {"Content-Length: 1\r\nContent-Length: 1\r\n", "bad length"},
      {"Content-Length: 1, 1\r\n", "bad length"},
      {"Content-Length: +1\r\n", "bad length"},
      {"Content-Length: -1\r\n", "bad length"},
      {"Content-Length: 0x10\r\n", "bad length"},
      {"Content-Length: 99999999999999999999\r\n", "bad length"},
      {"Content-Length:\r\n", "bad length"},
      {"Transfer-Encoding: chunked\r\n", "chunked"},
      {"Transfer-Encoding: Chunked\r\n", "chunked"},
      {"Transfer-Encoding: gzip, chunked\r\n", "unknown coding"},
      {"Transfer-Encoding: identity\r\n", "unknown coding"},
      {"Transfer-Encoding: chunked\r\nTransfer-Encoding: chunked\r\n", "unknown coding"},
      {"Transfer-Encoding: chunked\r\nContent-Length: 3\r\n", "both"},
  }));
  CAPTURE(row.lines);
  CHECK(framing(row.lines) == row.framing);
}

TEST_CASE("old and hand-typed heads may not announce what they cannot frame") {
  CHECK(framing("Transfer-Encoding: chunked\r\n", "1.0") == "coding in 1.0");
  CHECK(framing("Content-Length: 5\n", "1.1", "\n") == "bare lines");
  CHECK(framing("Content-Length: 0\n", "1.1", "\n") == "length 0");
}

TEST_CASE("chunks are taken apart wherever the bytes are split") {
  struct Row {
    std::string bytes;
    std::string body;
    std::string state;
  };
  const auto row = GENERATE(values<Row>({
      {"0\r\n\r\n", "", "done"},
      {"3\r\nabc\r\n0\r\n\r\n", "abc", "done"},
      {"3;x=\"y\"\r\nabc\r\nA\r\n0123456789\r\n0\r\nTrailer: t\r\n\r\n", "abc0123456789", "done"},
      {"3 ;x\r\nabc\r\n0\r\n\r\n", "abc", "done"},
      {"000000003\r\nabc\r\n0\r\n\r\n", "abc", "done"},
      {"3\r\nabcd\r\n", "abc", "bad"},
      {"3\nabc\r\n", "", "bad"},
      {"\r\n", "", "bad"},
      {"g\r\n", "", "bad"},
      {"-1\r\n", "", "bad"},
      {"0x3\r\nabc\r\n", "", "bad"},
      {"ffffffffffffffff\r\n", "", "bad"},
      {"3\r\nab", "ab", "more"},
      {"0\r\n folded\r\n\r\n", "", "bad"},
  }));
  for (std::size_t step : {std::size_t{1}, std::size_t{2}, std::size_t{3}, std::size_t{1000}}) {
    CAPTURE(row.bytes, step);
    ChunkReader reader;
    std::string body;
    std::string_view rest = row.bytes;
    while (!rest.empty() && reader.state() == ChunkReader::State::more)
      rest.remove_prefix(reader.read(rest.substr(0, step), body));
    CHECK(body == row.body);
    CHECK((reader.state() == ChunkReader::State::done   ? "done"
           : reader.state() == ChunkReader::State::more ? "more"
                                                        : "bad") == row.state);
  }
}

TEST_CASE("what follows a chunked body is left alone") {
  ChunkReader reader;
  std::string body;
  const std::string bytes = "1\r\na\r\n0\r\n\r\nGET / HTTP/1.1";
  CHECK(reader.read(bytes, body) == bytes.size() - 14);
  CHECK(body == "a");
}

TEST_CASE("endless extensions and trailers are refused") {
  for (const std::string& start : {std::string("1;"), std::string("0\r\nA: ")}) {
    ChunkReader reader;
    std::string body;
    reader.read(start + std::string(100000, 'x'), body);
    CHECK(reader.state() == ChunkReader::State::bad);
  }
}
