// What a monitor is told, held against a known load.
#include <catch2/catch.hpp>

#include "support/support.hpp"

using namespace porter::test;

TEST_CASE("a monitor is told what was asked and answered, in the format that it reads") {
  TempFolder folder;
  folder.write("pages/tide.txt", "07:40");
  folder.write("pages/tide.php", "<?php echo '07:40';");
  folder.write("pages/cgi-bin/tide", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n07:40'\n", 0755);
  const std::string port = std::to_string(free_port());
  SettledServer server(folder,
                       "addresses = [PORT]\nmetrics = \"localhost:" + port +
                           "\"\n[site.tides]\ndocument-root = \"pages\"\nhosts = [\"localhost\"]\n[site.fares]\n"
                           "document-root = \"pages\"\n");
  for (int i = 0; i < 7; ++i) CHECK(get(server.port(), "/tide.txt").status == 200);
  for (int i = 0; i < 3; ++i) CHECK(get(server.port(), "/tide.php").status == 200);
  CHECK(get(server.port(), "/cgi-bin/tide").status == 200);
  CHECK(get(server.port(), "/none").status == 404);
  CHECK(ask_host(server.port(), "fares.localhost", "/tide.txt").status == 200);
  const auto number = static_cast<std::uint16_t>(std::stoi(port));
  const std::string here = "localhost:" + port;
  const Response told = ask_host(number, here, "/metrics");
  CHECK(told.field("content-type") == "application/openmetrics-text; version=1.0.0; charset=utf-8");
  CHECK(call(control_socket(folder), "GET", "/v1/metrics").status == 200);
  const Outcome read = outcome_of(
      {"/usr/bin/python3", PORTER_DEMO "/../tests/support/check_metrics.py", folder.write("told", told.body)});
  CAPTURE(read.output);
  CHECK(read.status == 0);
  for (const char* const sample :
       {"uporter_requests_total{site=tides,status=2xx} 11\n", "uporter_requests_total{site=tides,status=4xx} 1\n",
        "uporter_requests_total{site=fares,status=2xx} 1\n", "uporter_request_duration_seconds_count{site=tides} 12\n",
        "uporter_request_duration_seconds_bucket{le=+Inf,site=tides} 12\n",
        "uporter_runs_total{language=PHP,way=persistent} 3\n", "uporter_findings_total{code=path-not-found} 1\n",
        "uporter_reloads_total{result=applied} 0\n", "uporter_exchanges_recorded_total{} 13\n"}) {
    CAPTURE(sample);
    CHECK(has(read.output, sample));
  }
  CHECK(has(read.output, ",way=fresh} 1\n"));
  CHECK(has(read.output, "uporter_pool_processes{language=PHP,program=/usr/bin/php-cgi"));
  // Nothing but that, and to nobody who was led here by another name.
  CHECK(ask_host(number, here, "/v1/status").status == 404);
  Connection posting(number);
  posting.send("POST /metrics HTTP/1.1\r\nHost: " + here + "\r\nContent-Length: 0\r\n\r\n");
  CHECK(posting.receive().status == 405);
  CHECK(ask_host(number, "gulls.example", "/metrics").status == 421);
  CHECK(server.stop() == 0);
}
