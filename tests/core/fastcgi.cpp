// FastCGI records, written and read, whole and in pieces.
#include <catch2/catch.hpp>

#include "core/fastcgi/records.hpp"
#include "core/script/interpreters.hpp"

using namespace porter;
using namespace porter::fastcgi;

namespace {

std::string record(int type, int request, std::string_view content, int padding = 0, int version = 1) {
  std::string out = {static_cast<char>(version),
                     static_cast<char>(type),
                     static_cast<char>(request >> 8),
                     static_cast<char>(request),
                     static_cast<char>(content.size() >> 8),
                     static_cast<char>(content.size()),
                     static_cast<char>(padding),
                     '\0'};
  out += content;
  return out + std::string(static_cast<std::size_t>(padding), '\xff');
}

std::string end_record(int status = 0, int protocol = 0) {
  const char content[8] = {'\0', '\0', static_cast<char>(status >> 8), static_cast<char>(status),
                           static_cast<char>(protocol)};
  return record(3, 1, {content, sizeof content});
}

/// What a reader for request 1 makes of `bytes`, given to it `step` at a time.
std::string read(const std::string& bytes, std::size_t step) {
  using Kind = ResponseReader::Part::Kind;
  ResponseReader reader(1);
  std::string out;
  std::string error;
  std::string rest;
  for (std::size_t at = 0; at < bytes.size(); at += step) {
    rest += bytes.substr(at, step);
    std::string_view view = rest;
    while (const auto part = reader.next(view)) {
      if (part->kind == Kind::output) out += part->content;
      if (part->kind == Kind::error) error += part->content;
      if (part->kind == Kind::end_of_output) out += "|";
      if (part->kind == Kind::broken) return out + "/" + error + " broken: " + reader.problem();
      if (part->kind == Kind::end_of_request)
        return out + "/" + error + " end " + std::to_string(reader.end().status) + " " +
               std::to_string(static_cast<int>(reader.end().protocol));
    }
    rest = view;
  }
  return out + "/" + error + " …";
}

}  // namespace

TEST_CASE("a response is read from its records, however they are cut") {
  struct Row {
    std::string bytes;
    std::string parts;
  };
  const auto row = GENERATE(values<Row>({
      {"", "/ …"},
      {record(6, 1, "abc"), "abc/ …"},
      {record(6, 1, "abc", 5) + record(6, 1, "") + end_record(), "abc|/ end 0 0"},
      {record(6, 1, "abc") + record(7, 1, "no tide", 255) + record(6, 1, "def") + end_record(258),
       "abcdef/no tide end 258 0"},
      {record(7, 1, "") + end_record(0, 1), "/ end 0 1"},
      {record(7, 1, "") + end_record(0, 3), "/ end 0 3"},
      {end_record(0, 4), "/ broken: it ended the request with the unknown protocol status 4"},
      // What was never asked for, and belongs to no request.
      {record(10, 0, "values") + record(11, 0, "????????") + record(6, 1, "a"), "a/ …"},
      {record(6, 0, "a"), "/ broken: it sent a record of request 0 in answer to request 1"},
      {record(6, 2, "a"), "/ broken: it sent a record of request 2 in answer to request 1"},
      {record(6, 257, "a"), "/ broken: it sent a record of request 257 in answer to request 1"},
      {record(1, 1, "a"), "/ broken: it sent a record of type 1, which no response holds"},
      {record(99, 1, "a"), "/ broken: it sent a record of type 99, which no response holds"},
      {record(6, 1, "a") + record(6, 1, "") + record(6, 1, "b"),
       "a|/ broken: it sent output behind the end of its output"},
      {record(3, 1, "1234567"), "/ broken: it ended the request with 7 bytes, where there are 8"},
      {record(3, 1, std::string(65535, 'x')), "/ broken: it ended the request with 65535 bytes, where there are 8"},
      {record(6, 1, "a", 0, 2), "/ broken: it sent no record but"},
      {"HTTP/1.1 400 Bad Request\r\n", "/ broken: it sent no record but \"H"},
  }));
  for (const std::size_t step : {std::size_t{1}, std::size_t{3}, std::size_t{8}, row.bytes.size() + 1}) {
    CAPTURE(row.parts, step);
    CHECK(read(row.bytes, step).starts_with(row.parts));
  }
}

TEST_CASE("content is handed on before its record is whole") {
  ResponseReader reader(1);
  const std::string bytes = record(6, 1, std::string(60000, 'k'));
  std::string_view some = std::string_view(bytes).substr(0, 1000);
  const auto part = reader.next(some);
  REQUIRE(part);
  CHECK(part->content.size() == 1000 - kHeaderSize);
  CHECK(some.empty());
}

TEST_CASE("a request is its begin, its parameters and their end") {
  script::Environment environment;
  environment.add("A", "b");
  environment.add("LONG", std::string(200, 'x'));
  environment.add("EMPTY", "");
  std::string out = request_records(environment);
  address(out, 258, Connection::stays);
  const std::string pairs =
      std::string("\1\1Ab\4\x80\0\0\xc8LONG", 13) + std::string(200, 'x') + std::string("\5\0EMPTY", 7);
  CHECK(out == record(1, 258, std::string("\0\1\1\0\0\0\0\0", 8)) + record(4, 258, pairs) + record(4, 258, ""));
  address(out, 1, Connection::closes);
  CHECK(out == record(1, 1, std::string("\0\1\0\0\0\0\0\0", 8)) + record(4, 1, pairs) + record(4, 1, ""));
  out = request_records({});
  address(out, 1, Connection::closes);
  CHECK(out == record(1, 1, std::string("\0\1\0\0\0\0\0\0", 8)) + record(4, 1, ""));
  out.clear();
  append_end_of_stream(out, RecordType::input, 7);
  CHECK(out == record(5, 7, ""));
}

TEST_CASE("parameters that fill more than one record are cut between two of them, where that can be") {
  script::Environment environment;
  for (const char name : {'a', 'b', 'c'}) environment.add(std::string(1, name), std::string(30000, name));
  environment.add("d", std::string(70000, 'd'));
  std::string out = request_records(environment);
  address(out, 1, Connection::stays);
  std::vector<std::size_t> sizes;
  std::string_view rest = out;
  while (!rest.empty()) {
    const auto header = parse_header(rest);
    REQUIRE(header);
    if (header->type == RecordType::params) sizes.push_back(header->content_length);
    rest.remove_prefix(kHeaderSize + header->content_length + header->padding_length);
  }
  CHECK(sizes == std::vector<std::size_t>{60012, 30006, 65535, 4471, 0});
}

TEST_CASE("workers are named by a socket, or by a host and a port") {
  struct Row {
    std::string written;
    std::string read;
  };
  const auto row = GENERATE(values<Row>({
      {"unix:/run/quay.sock", "/run/quay.sock  0"},
      {"192.0.2.7:9000", " 192.0.2.7 9000"},
      {"[2001:db8::7]:9000", " 2001:db8::7 9000"},
      {"harbour:65535", " harbour 65535"},
      {"harbour:65536", "none"},
      {"harbour:+1", "none"},
      {"2001:db8::7:9000", "none"},
      {"[]:1", "none"},
      {"unix:/" + std::string(107, 'x'), "none"},
      {"http://harbour:80", "none"},
  }));
  const auto address = script::parse_external(row.written);
  CHECK((address ? address->path + " " + address->host + " " + std::to_string(address->port) : "none") == row.read);
}

TEST_CASE("directives are lines of a php.ini") {
  CHECK(script::directive_line("memory_limit", "1G") == "memory_limit=1G");
  CHECK(script::directive_line("error_reporting", "E_ALL & ~E_NOTICE") == "error_reporting=E_ALL & ~E_NOTICE");
  CHECK(script::directive_line("a", "x;y ${HOME} \"z\"") == "a='x;y ${HOME} \"z\"'");
  CHECK(script::directive_line("a", "it's \"\\\"") == "a=\"it's \\\"\\\\\\\"\"");
  CHECK(script::directive_line("a", "") == "a=''");
}
