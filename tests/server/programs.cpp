// Persistent programs that are not PHP, and what they do between two requests.
#include <catch2/catch.hpp>
#include <filesystem>
#include <fstream>

#include "support/support.hpp"

using namespace porter::test;

TEST_CASE("a program that speaks FastCGI is mounted in one line, and restarted when one of its files is saved") {
  TempFolder folder;
  const std::string program = "use FCGI; use lib '" + folder.path() +
                              "/tides'; use Tide; my $request = FCGI::Request(); my $n = 0;\n"
                              "while ($request->Accept() >= 0) { ++$n; print \"Content-Type: text/plain\\r\\n\\r\\n\"; "
                              "print \"$Tide::HIGH run $n [$ENV{SCRIPT_NAME}] [$ENV{PATH_INFO}]\"; }\n";
  folder.write("tides/Tide.pm", "package Tide; our $HIGH = '07:40'; 1;\n");
  folder.write("tides/app.fcgi", "#!/usr/bin/perl\n" + program, 0755);
  folder.write("tides/app.pl", program);
  folder.write("tides/plain", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nplain'\n", 0755);
  folder.write("pages/index.html", "tides");
  SettledServer server(folder,
                       "addresses = [PORT]\n[site.tides]\ndocument-root = \"pages\"\n[site.tides.mounts]\n"
                       "\"/first\" = { target = \"tides/app.fcgi\", persistent = true, processes = 1 }\n"
                       "\"/ending\" = { target = \"tides/app.pl\", persistent = true, processes = 1 }\n"
                       "\"/plain\" = { target = \"tides/plain\", persistent = true, processes = 1 }\n");
  const auto body = [&](const std::string& target) { return ask_host(server.port(), "tides.localhost", target).body; };
  for (const std::string mount : {"/first", "/ending"}) {
    CAPTURE(mount);
    CHECK(body(mount + "/gulls/3?x") == "07:40 run 1 [" + mount + "] [/gulls/3]");
    CHECK(body(mount) == "07:40 run 2 [" + mount + "] []");
  }
  const std::string refused = body("/plain");
  CHECK(has(refused, "It was started with a FastCGI socket as its standard input"));
  CHECK(has(refused, "[site.tides.mounts]"));
  pause_ms(20);
  folder.write("tides/Tide.pm", "package Tide; our $HIGH = '19:55'; 1;\n");
  for (const std::string mount : {"/first", "/ending"})
    CHECK(eventually([&] { return body(mount).starts_with("19:55"); }, std::chrono::seconds(3)));
  CHECK(server.stop() == 0);
}

TEST_CASE("a program that ends behind its page costs no request, and what it says then is its own") {
  TempFolder folder;
  folder.write("pages/index.html", "tides");
  folder.write("gauge.fcgi",
               "#!/usr/bin/perl\nuse FCGI; my $request = FCGI::Request(); my $n = 0;\n"
               "while ($request->Accept() >= 0) { ++$n; print \"Content-Type: text/plain\\r\\n\\r\\nhigh water\"; "
               "$request->Finish(); next if $n % 2; select(undef, undef, undef, 0.001); "
               "print STDERR \"the gauge is gone\\n\"; $n % 4 ? exit 1 : kill 'ABRT', $$; }\n",
               0755);
  // It dies of what it was asked, which it has read.
  folder.write("breaks.fcgi",
               "#!/usr/bin/perl\nuse FCGI; my $request = FCGI::Request(); my $n = 0;\n"
               "while ($request->Accept() >= 0) { open my $told, '>>', 'runs'; print $told 'r'; close $told; "
               "exit 1 if ++$n % 2 == 0; print \"Content-Type: text/plain\\r\\n\\r\\nhigh water\"; }\n",
               0755);
  SettledServer server(folder,
                       "addresses = [PORT]\n[site.tides]\ndocument-root = \"pages\"\n[site.tides.mounts]\n"
                       "\"/gauge\" = { target = \"gauge.fcgi\", persistent = true, processes = 1 }\n"
                       "\"/breaks\" = { target = \"breaks.fcgi\", persistent = true, processes = 1 }\n");
  int answered = 0;
  for (int i = 0; i < 60; ++i)
    answered += ask_host(server.port(), "tides.localhost", "/gauge").body == "high water" ? 1 : 0;
  CHECK(answered == 60);
  CHECK(eventually([&] {
    const std::string log = call(control_socket(folder), "GET", "/v1/log").body;
    return has(log, "gauge.fcgi (process ") && has(log, "after its response: the gauge is gone");
  }));
  for (int i = 0; i < 4; ++i)
    CHECK(ask_host(server.port(), "tides.localhost", "/breaks").status == (i % 2 == 0 ? 200 : 500));
  // Never twice.
  std::string runs;
  std::ifstream(folder.path() + "/runs") >> runs;
  CHECK(runs == "rrrr");
  CHECK(server.stop() == 0);
}

TEST_CASE("a program is restarted when a library that it has loaded is replaced") {
  TempFolder folder;
  folder.write("pages/index.html", "tides");
  const std::string source = folder.write("tide.c", "const char* tide(void) { return TIDE; }\n");
  const std::string program =
      folder.write("app.c",
                   "#include <fcgi_stdio.h>\nconst char* tide(void);\nint main(void) {\n  while (FCGI_Accept() >= 0) "
                   "printf(\"Content-Type: text/plain\\r\\n\\r\\n%s\", tide());\n  return 0;\n}\n");
  std::filesystem::create_directory(folder.path() + "/lib");
  const auto make_library = [&](const std::string& tide) {
    const std::string fresh = folder.path() + "/lib/fresh.so";
    REQUIRE(outcome_of({"cc", "-shared", "-fPIC", "-DTIDE=\"" + tide + "\"", source, "-o", fresh}).status == 0);
    std::filesystem::rename(fresh, folder.path() + "/lib/libtide.so");
  };
  make_library("07:40");
  const std::string folder_of_libraries = folder.path() + "/lib";
  REQUIRE(outcome_of({"cc", program, "-o", folder.path() + "/app.fcgi", "-lfcgi", "-L" + folder_of_libraries, "-ltide",
                      "-Wl,-rpath," + folder_of_libraries})
              .status == 0);
  SettledServer server(folder,
                       "addresses = [PORT]\n[site.tides]\ndocument-root = \"pages\"\n[site.tides.mounts]\n"
                       "\"/tide\" = { target = \"app.fcgi\", persistent = true }\n");
  const auto tide = [&] { return ask_host(server.port(), "tides.localhost", "/tide").body; };
  CHECK(tide() == "07:40");
  CHECK(tide() == "07:40");
  make_library("19:55");
  CHECK(eventually([&] { return tide() == "19:55"; }, std::chrono::seconds(3)));
  CHECK(server.stop() == 0);
}
