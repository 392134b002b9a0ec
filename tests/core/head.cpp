#include "core/http/head.hpp"

#include <catch2/catch.hpp>

using namespace porter::http;

namespace {
std::string name_of(HeadError error) {
  switch (error) {
    case HeadError::tls_handshake:
      return "tls";
    case HeadError::bad_request_line:
      return "request line";
    case HeadError::bad_method:
      return "method";
    case HeadError::bad_version:
      return "version";
    case HeadError::other_version:
      return "other version";
    case HeadError::line_too_long:
      return "line too long";
    case HeadError::head_too_large:
      return "head too large";
    case HeadError::too_many_fields:
      return "too many fields";
    case HeadError::no_colon:
      return "no colon";
    case HeadError::bad_field_name:
      return "field name";
    case HeadError::folded_line:
      return "folded";
    case HeadError::bare_cr:
      return "bare cr";
    case HeadError::control_character:
      return "control";
  }
  return "";
}

/// "METHOD target minor name=value…", or the error.
std::string read(std::string_view bytes, const HeadLimits& limits = {}) {
  const auto parsed = parse_head(bytes, limits);
  if (const auto* const problem = std::get_if<HeadProblem>(&parsed)) return name_of(problem->error);
  const auto& head = std::get<RequestHead>(parsed);
  std::string out =
      std::string(head.method) + " " + std::string(head.target) + " " + std::to_string(head.minor_version);
  for (const Field& field : head.fields) out += " " + std::string(field.name) + "=" + std::string(field.value);
  return out;
}
}  // namespace

TEST_CASE("heads are read strictly") {
  struct Row {
    std::string_view bytes;
    std::string read;
  };
  const auto row = GENERATE(values<Row>({
      {"GET / HTTP/1.1\r\nHost: a\r\n\r\n", "GET / 1 Host=a"},
      {"GET / HTTP/1.0\n\n", "GET / 0"},
      {"\r\n\r\nGET / HTTP/1.1\r\n\r\n", "GET / 1"},
      {"GET / HTTP/1.9\r\n\r\n", "GET / 1"},
      {"GET / HTTP/2.0\r\n\r\n", "other version"},
      {"PRI * HTTP/2.0\r\n\r\n", "other version"},
      {"GET / HTTP/1.10\r\n\r\n", "version"},
      {"GET / http/1.1\r\n\r\n", "version"},
      {"GET / HTTP/1\r\n\r\n", "version"},
      {"GET /\r\n\r\n", "GET / 0"},
      {"GET /\r\nHost: a\r\n\r\n", "request line"},
      {"GET\r\n\r\n", "request line"},
      {"GET  / HTTP/1.1\r\n\r\n", "request line"},
      {"GET /a b HTTP/1.1\r\n\r\n", "request line"},
      {"G@T / HTTP/1.1\r\n\r\n", "method"},
      {"GET / HTTP/1.1\r\nA: \t b c \t\r\n\r\n", "GET / 1 A=b c"},
      {"GET / HTTP/1.1\r\nA:\r\n\r\n", "GET / 1 A="},
      {"GET / HTTP/1.1\r\nA: b\r\n c\r\n\r\n", "folded"},
      {"GET / HTTP/1.1\r\n A: b\r\n\r\n", "folded"},
      {"GET / HTTP/1.1\r\nA : b\r\n\r\n", "field name"},
      {"GET / HTTP/1.1\r\n: b\r\n\r\n", "field name"},
      {"GET / HTTP/1.1\r\nA b\r\n\r\n", "no colon"},
      {"GET / HTTP/1.1\r\nA: b\rc\r\n\r\n", "bare cr"},
      {"GET /\r HTTP/1.1\r\n\r\n", "bare cr"},
      {"GET / HTTP/1.1\r\nA: b\x01\r\n\r\n", "control"},
      {std::string_view("GET / HTTP/1.1\r\nA: b\0c\r\n\r\n", 26), "control"},
      {"GET / HTTP/1.1\r\nA: caf\xc3\xa9\r\n\r\n", "GET / 1 A=caf\xc3\xa9"},
      {"\x16\x03\x01\x02\x00\x01\r\n\r\n", "tls"},
      {"{}\r\n\r\n", "method"},
  }));
  CAPTURE(row.bytes);
  CHECK(read(row.bytes) == row.read);
}

TEST_CASE("a head's limits have errors of their own") {
  const std::string long_target = "GET /" + std::string(9000, 'a') + " HTTP/1.1\r\n\r\n";
  CHECK(read(long_target) == "line too long");
  CHECK(read("GET / HTTP/1.1\r\nA: " + std::string(40000, 'a') + "\r\n\r\n") == "head too large");
  std::string many = "GET / HTTP/1.1\r\n";
  for (int i = 0; i < 101; ++i) many += "A: b\r\n";
  CHECK(read(many + "\r\n") == "too many fields");
  CHECK(read("GET / HTTP/1.1\r\nA: b\r\n\r\n", {20, 100, 1}) == "GET / 1 A=b");
}

TEST_CASE("the end of a head is found however the bytes come") {
  const std::string bytes = "\r\nGET / HTTP/1.1\r\nHost: a\r\n\r\nrest";
  const std::size_t length = bytes.size() - 4;
  for (std::size_t had = 0; had < bytes.size(); ++had) {
    CAPTURE(had);
    const auto found = head_length(std::string_view(bytes).substr(0, had), 0);
    CHECK(found.has_value() == (had >= length));
    // What was scanned before is not scanned again, and the end is found all the same.
    if (had < length) CHECK(head_length(bytes, had) == length);
  }
  CHECK(head_length("GET / HTTP/1.0\n\nrest", 0) == 16);
  CHECK_FALSE(head_length("\r\n\r\n\r\n", 0));
}

TEST_CASE("fields are found and joined without regard to case") {
  const std::string bytes = "GET / HTTP/1.1\r\naccept: a\r\nX: 1\r\nAccept: b\r\n\r\n";
  const auto parsed = parse_head(bytes, {});
  const auto& head = std::get<RequestHead>(parsed);
  CHECK(head.field("ACCEPT") == "a");
  CHECK(head.joined("Accept") == "a, b");
  CHECK(head.count("accept") == 2);
  CHECK_FALSE(head.field("Y"));
  CHECK(list_has("keep-alive , Close", "close"));
  CHECK_FALSE(list_has("closed", "close"));
}
