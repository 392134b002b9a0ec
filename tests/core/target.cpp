#include "core/http/target.hpp"

#include <catch2/catch.hpp>

using namespace porter::http;

namespace {
/// "path|query" of a target, or what is wrong with it.
std::string read(std::string_view raw, std::string_view method = "GET") {
  const auto parsed = parse_target(raw, method);
  if (const auto* const error = std::get_if<TargetError>(&parsed)) return "error: " + std::string(describe(*error));
  const auto& target = std::get<Target>(parsed);
  if (target.form == TargetForm::asterisk) return "*";
  if (target.form == TargetForm::authority) return "authority " + *target.authority;
  const std::string host = target.authority ? "[" + *target.authority + "]" : "";
  return host + target.path + (target.has_query ? "?" + target.query : "");
}
}  // namespace

TEST_CASE("targets are split, decoded and cleared of dot segments") {
  struct Row {
    std::string_view raw;
    std::string read;
  };
  const auto row = GENERATE(values<Row>({
      {"/", "/"},
      {"/tides.html?port=TAN&day=2", "/tides.html?port=TAN&day=2"},
      {"/a?", "/a?"},
      {"/a?b?c", "/a?b?c"},
      {"/a%20b%2fc", "/a b/c"},
      {"/a/..%2Fb", "/a/../b"},
      {"/a%2f../c", "/a/../c"},
      {"/a%20b", "/a b"},
      {"/%C3%A9t%c3%a9", "/été"},
      {"/a%ff", "/a\xff"},
      {"/a\xc3\xa9", "/aé"},
      {"/a%0Ab", "/a\nb"},
      {"/a%00", "error: has an encoded NUL byte (%00), which no file name can hold"},
      {"/a%2", "error: has a percent sign that is not followed by two hexadecimal digits"},
      {"/a%zz", "error: has a percent sign that is not followed by two hexadecimal digits"},
      {"/a?%zz", "/a?%zz"},
      {"/../../etc/passwd", "/etc/passwd"},
      {"/a/../b", "/b"},
      {"/a/%2e%2e/b", "/b"},
      {"/a/./b/.", "/a/b/"},
      {"/a/b/..", "/a/"},
      {"/..", "/"},
      {"/a/..", "/"},
      {"/.hidden", "/.hidden"},
      {"/a//b/", "/a//b/"},
      {"/a/...", "/a/..."},
      {"http://localhost:8080/a?b", "[localhost:8080]/a?b"},
      {"HTTP://localhost", "[localhost]/"},
      {"http://localhost?x", "[localhost]/?x"},
      {"http:///a", "error: is neither a path that begins with a slash nor an http:// URL"},
      {"http://me@localhost/", "error: is neither a path that begins with a slash nor an http:// URL"},
      {"ftp://localhost/", "error: is neither a path that begins with a slash nor an http:// URL"},
      {"tides.html", "error: is neither a path that begins with a slash nor an http:// URL"},
      {"*", "error: is neither a path that begins with a slash nor an http:// URL"},
      {"/a#b", "error: has a #, which belongs to the browser and is never sent"},
      {"/a b", "error: holds a space or a control character, which must be written as %20 or alike"},
      {"/a\x01", "error: holds a space or a control character, which must be written as %20 or alike"},
      {"", "error: is empty"},
  }));
  CAPTURE(row.raw);
  CHECK(read(row.raw) == row.read);
}

TEST_CASE("the method decides which forms a target may have") {
  CHECK(read("*", "OPTIONS") == "*");
  CHECK(read("localhost:8080", "CONNECT") == "authority localhost:8080");
  CHECK(read("/a", "CONNECT").starts_with("error"));
}

TEST_CASE("every byte of a file name survives encoding and decoding") {
  std::string name = "/";
  for (int byte = 1; byte < 256; ++byte)
    if (byte != '/') name += static_cast<char>(byte);
  const std::string encoded = percent_encode_path(name);
  CHECK(encoded.find_first_of("?#\" <>") == std::string::npos);
  CHECK(percent_decode(encoded) == name);
  CHECK(read(encoded) == name);
}

TEST_CASE("dot segments are removed as RFC 3986 section 5.2.4 shows") {
  CHECK(remove_dot_segments("/a/b/c/./../../g") == "/a/g");
  CHECK(remove_dot_segments("/./a") == "/a");
  CHECK(remove_dot_segments("/a/b/") == "/a/b/");
}
