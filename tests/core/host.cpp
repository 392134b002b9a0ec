#include "core/http/host.hpp"

#include <catch2/catch.hpp>

using namespace porter::http;

TEST_CASE("Host fields are read as RFC 9110 section 7.2 has them") {
  struct Row {
    std::string_view value;
    std::string read;
  };
  const auto row = GENERATE(values<Row>({
      {"localhost", "localhost"},
      {"LocalHost:8080", "localhost 8080"},
      {"gulls.localhost.", "gulls.localhost"},
      {"localhost:", "localhost"},
      {"127.0.0.1:80", "127.0.0.1 80 ip"},
      {"[::1]:8080", "::1 8080 ip"},
      {"[::1]", "::1 ip"},
      {"[::g]", "bad"},
      {"[::1", "bad"},
      {"[::1]x", "bad"},
      {"::1", "bad"},
      {"a b", "bad"},
      {"a/b", "bad"},
      {"a@b", "bad"},
      {"a..b", "bad"},
      {"", "bad"},
      {":80", "bad"},
      {"a:80a", "bad"},
      {"a:65536", "bad"},
      {"a_b-c.d", "a_b-c.d"},
      {"<script>", "bad"},
  }));
  CAPTURE(row.value);
  const auto host = parse_host(row.value);
  std::string read = host ? host->name : "bad";
  if (host && host->port) read += " " + std::to_string(*host->port);
  if (host && host->is_ip) read += " ip";
  CHECK(read == row.read);
}

TEST_CASE("names below localhost mean this machine") {
  CHECK(is_localhost_name("localhost"));
  CHECK(is_localhost_name("office.gulls.localhost"));
  CHECK_FALSE(is_localhost_name("notlocalhost"));
  CHECK_FALSE(is_localhost_name("localhost.example"));
}
