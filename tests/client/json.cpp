// What commands print for programs: one document, in the schemas of the control interface, errors included.
#include <catch2/catch.hpp>

#include "support/support.hpp"

using namespace porter::test;

TEST_CASE("with --json each command prints what the description of the control interface says") {
  TempFolder folder;
  folder.write("pages/index.html", "tides");
  folder.write("pages/cgi-bin/tides", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n07:40'\n", 0755);
  folder.write("uporter.toml", "addresses = [" + std::to_string(free_port()) +
                                   "]\nconsole = false\n[site.tides]\ndocument-root = \"pages\"\n");
  Program check({"/usr/bin/python3", PORTER_DEMO "/../tests/support/check_json.py",
                 PORTER_DEMO "/../docs/control.openapi.yaml", built("uporter"), folder.path() + "/uporter.toml"},
                SettledServer::environment(folder));
  const std::string output = check.output();
  CAPTURE(output);
  CHECK(check.wait() == 0);
  CHECK(has(output, "commands held against the description"));
}
