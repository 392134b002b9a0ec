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
               "#!/bin/sh\necho \"$HTTP_CONTENT_ENCODING\" >> " + repos +
                   "/encodings\nexport GIT_PROJECT_ROOT=" + repos + " GIT_HTTP_EXPORT_ALL=1\nexec git http-backend\n",
               0755);
  const auto git = [&](std::vector<std::string> words) {
    words.insert(words.begin(), {"git", "-c", "user.name=Harbour Office", "-c", "user.email=office@gulls.localhost",
                                 "-c", "init.defaultBranch=main", "-c", "protocol.version=0"});
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
  // Larger than git's buffer, so it goes out chunked.
  git({"-C", first, "-c", "http.postBuffer=65536", "push", "origin", "HEAD:main"});
  const std::string second = folder.path() + "/second";
  git({"clone", "-b", "main", url, second});
  CHECK(content(second + "/log.txt") == log);
  // With many commits of its own, a clone has a long list to compare, which git sends compressed.
  for (int i = 0; i < 60; ++i) git({"-C", second, "commit", "-q", "--allow-empty", "-m", "Watch " + std::to_string(i)});
  git({"-C", first, "commit", "-q", "--allow-empty", "-m", "All quiet"});
  git({"-C", first, "push", "origin", "HEAD:main"});
  git({"-C", second, "fetch", "-q"});
  CHECK(content(repos + "/encodings").find("gzip") != std::string::npos);
  CHECK(git({"-C", second, "log", "-1", "--format=%s", "origin/main"}) == "All quiet\n");
  CHECK(server.stop() == 0);
}

TEST_CASE("the harbour office: sessions, forms, papers and their way back") {
  TempFolder folder;
  REQUIRE(std::system(
              ("cp -r " PORTER_DEMO "/office/. " + folder.path() + " && rm -rf " + folder.path() + "/var").c_str()) ==
          0);
  Server server(folder.path() + "/public");
  const std::string base = "http://localhost:" + std::to_string(server.port()) + "/index.php";
  const std::string jar = folder.path() + "/jar";
  const auto curl = [&](std::vector<std::string> words) {
    words.insert(words.begin(), {"curl", "-s", "-b", jar, "-c", jar});
    return output_of(words);
  };
  CHECK(curl({"-L", base + "/"}).find("Who is on watch?") != std::string::npos);
  const std::string signed_in = curl({"-i", "-d", "clerk=Second Mate", base + "/sign-in"});
  CHECK(signed_in.starts_with("HTTP/1.1 303"));
  CHECK(signed_in.find("Location: /index.php/\r\n") != std::string::npos);
  // The session's cookie, and two of the office's own.
  CHECK(signed_in.find("last_clerk=Second%20Mate;") != std::string::npos);
  CHECK(signed_in.find("notice=") != std::string::npos);
  CHECK(curl({base + "/"}).find("Good watch, Second Mate.") != std::string::npos);
  CHECK(curl({"-F", "vessel=", base + "/bookings"}).find("When does she arrive?") != std::string::npos);

  const std::string plan = folder.write("Plan of deck, 50%.txt", "deck plan");
  std::string cargo;
  for (unsigned i = 0; cargo.size() < 5'000'000; ++i) cargo += std::to_string(i * 2654435761U) + '\0';
  const std::string manifest = folder.write("Ladeliste \xc3\xbc.bin", cargo);
  const std::vector<std::string> booking = {"-F", "vessel=Kittiwake",        "-F", "berth=Quay 1",
                                            "-F", "arrives=2026-11-24T07:40"};
  const auto book = [&](std::vector<std::string> words) {
    words.insert(words.end(), booking.begin(), booking.end());
    words.insert(words.end(), {"-o", "/dev/null", "-w", "%{http_code} %{redirect_url}", base + "/bookings"});
    return curl(words);
  };
  CHECK(book({"-F", "papers[]=@\"" + plan + "\"", "-F", "papers[]=@\"" + manifest + "\""}) ==
        "303 " + base + "/bookings/1");
  CHECK(book({"-H", "Transfer-Encoding: chunked", "-F", "papers[]=@\"" + manifest + "\""}) ==
        "303 " + base + "/bookings/2");
  const std::string page = curl({base + "/bookings/1"});
  CHECK(page.find("Plan%20of%20deck%2C%2050%25.txt") != std::string::npos);
  CHECK(curl({base + "/bookings/1/papers/Plan%20of%20deck%2C%2050%25.txt"}) == "deck plan");
  const std::string back = folder.path() + "/back";
  for (const std::string number : {"1", "2"}) {
    curl({"-o", back, base + "/bookings/" + number + "/papers/Ladeliste%20%C3%BC.bin"});
    CHECK(content(back) == cargo);
  }
  CHECK(curl({"-L", "-X", "POST", base + "/sign-out"}).find("Who is on watch?") != std::string::npos);
  CHECK(curl({"-o", "/dev/null", "-w", "%{http_code}", base + "/bookings/1"}) == "303");
  CHECK(server.stop() == 0);
}
