// Real clients against the server: curl, wget and a browser.
#include <catch2/catch.hpp>
#include <csignal>
#include <cstdlib>
#include <fstream>
#include <sstream>

#include "support/support.hpp"

using namespace porter::test;

namespace {

std::string output_of(const std::vector<std::string>& words) {
  Program program(words);
  const std::string output = program.output();
  program.wait();
  return output;
}

std::string content(const std::string& path) {
  std::ostringstream out;
  out << std::ifstream(path, std::ios::binary).rdbuf();
  return out.str();
}

}  // namespace

TEST_CASE("curl keeps its connection, takes compressed pages, and loads only what has changed") {
  TempFolder folder;
  const std::string text(50'000, 't');
  folder.write("a.txt", text);
  folder.write("b.txt", "B");
  Server server(folder.path());
  const std::string base = "http://localhost:" + std::to_string(server.port());
  const std::string talk = output_of({"curl", "-sv", base + "/b.txt", base + "/a.txt"});
  CHECK(talk.find("Re-using existing connection") != std::string::npos);
  CHECK(output_of({"curl", "-s", "--compressed", base + "/a.txt"}) == text);
  const std::string tag = folder.path() + "/tag";
  CHECK(output_of({"curl", "-s", "--etag-save", tag, base + "/b.txt"}) == "B");
  CHECK(output_of({"curl", "-s", "-w", "%{http_code}", "--etag-compare", tag, base + "/b.txt"}) == "304");
  CHECK(output_of({"curl", "-s", "-r", "0-9", base + "/a.txt"}) == "tttttttttt");
  CHECK(output_of({"curl", "-s", "-o", "/dev/null", "-w", "%{http_code}", "-T", tag, base + "/b.txt"}) == "405");
  CHECK(server.stop() == 0);
}

TEST_CASE("wget resumes a file where it stopped, and leaves alone what is no newer") {
  TempFolder folder;
  TempFolder copies;
  std::string text;
  for (int i = 0; i < 40'000; ++i) text += std::to_string(i) + "\n";
  folder.write("log.txt", text);
  Server server(folder.path());
  const std::string url = "http://localhost:" + std::to_string(server.port()) + "/log.txt";
  const std::string copy = copies.write("log.txt", text.substr(0, 100'000));
  output_of({"wget", "-q", "-c", "-P", copies.path(), url});
  CHECK(content(copy) == text);
  pause_ms(2100);
  CHECK(output_of({"wget", "-N", "-P", copies.path(), url}).find("304") != std::string::npos);
  CHECK(server.stop() == 0);
}

TEST_CASE("a browser shows the demo's page with its style, script output and chart") {
  Server server(PORTER_DEMO "/public");
  TempFolder profile;
  const auto dump = [&](const std::string& path) {
    return output_of({"chromium", "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
                      "--disable-background-networking", "--disable-component-update", "--disable-sync",
                      "--user-data-dir=" + profile.path(), "--dump-dom",
                      "http://localhost:" + std::to_string(server.port()) + path});
  };
  CHECK(dump("/").find("Four harbours") != std::string::npos);
  CHECK(dump("/cgi-bin/timetable.py?port=MOR&day=3").find("13:50") != std::string::npos);
  CHECK(dump("/none").find("Nothing at this path") != std::string::npos);
  CHECK(dump("/").find("crossings.svg") != std::string::npos);
  server.program().signal(SIGTERM);
  const std::string log = server.program().output();
  CHECK(log.find("GET /style.css") != std::string::npos);
  // The second visit to the page asks whether its copy is still good, and is told so.
  CHECK(log.find(" 304 ") != std::string::npos);
  CHECK(server.program().wait() == 0);
}

TEST_CASE("git clones from and pushes to its own CGI program") {
  TempFolder folder;
  const std::string repos = folder.path() + "/repos";
  folder.write("pages/cgi-bin/git",
               "#!/bin/sh\nexport GIT_PROJECT_ROOT=" + repos + " GIT_HTTP_EXPORT_ALL=1\nexec git http-backend\n", 0755);
  const auto git = [&](std::vector<std::string> words) {
    words.insert(words.begin(), {"git", "-c", "user.name=Harbour Office", "-c", "user.email=office@gulls.localhost",
                                 "-c", "init.defaultBranch=main", "-c", "http.postBuffer=65536"});
    Program program(words, {"GIT_TERMINAL_PROMPT=0"});
    const std::string output = program.output();
    CAPTURE(output);
    CHECK(program.wait() == 0);
    return output;
  };
  git({"init", "--bare", repos + "/log.git"});
  git({"-C", repos + "/log.git", "config", "http.receivepack", "true"});
  Server server(folder.path() + "/pages");
  const std::string url = "http://localhost:" + std::to_string(server.port()) + "/cgi-bin/git/log.git";
  const std::string first = folder.path() + "/first";
  git({"clone", url, first});
  std::string log;
  for (unsigned i = 0; log.size() < 600'000; ++i) log += std::to_string(i * 2654435761U) + " Kittiwake\n";
  folder.write("first/log.txt", log);
  git({"-C", first, "add", "log.txt"});
  git({"-C", first, "commit", "-qm", "The log of the Kittiwake"});
  // Larger than the buffer above, so it goes out chunked.
  git({"-C", first, "push", "origin", "HEAD:main"});
  const std::string second = folder.path() + "/second";
  git({"clone", "-b", "main", url, second});
  CHECK(content(second + "/log.txt") == log);
  CHECK(server.stop() == 0);
}
