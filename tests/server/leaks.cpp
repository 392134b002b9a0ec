// What must never get out: sources, hidden files, what lies outside, and names of sites to foreign pages.
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
#include <catch2/catch.hpp>
#include <cstdio>
#include <filesystem>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;
namespace fs = std::filesystem;

namespace {

/// The SHA-256 of `text` as a Content-Security-Policy writes it.
std::string hash_of(const TempFolder& folder, const std::string& text) {
  const std::string file = folder.write("hashed", text);
  Program hash({"python3", "-c",
                "import base64,hashlib,sys;print(base64.b64encode(hashlib.sha256(open(sys.argv[1],'rb').read())"
                ".digest()).decode())",
                file});
  std::string out = hash.output();
  while (out.ends_with('\n')) out.pop_back();
  return out;
}

}  // namespace

TEST_CASE("own problem pages go the way of any file") {
  TempFolder folder;
  folder.write("pages/cgi-bin/closed", "#!/bin/sh\nSECRET\n", 0644);
  folder.write("pages/lost.html", "<p>lost at sea");
  folder.write("pages/lost.php",
               "<?php header('X-Made: yes'); echo 'SECRET'[0], 'orry ', $_SERVER['REDIRECT_STATUS'];");
  folder.write("pages/broken.php", "<?php SECRET(");
  folder.write("pages/.hidden", "SECRET");
  folder.write("outside.txt", "SECRET");
  fs::create_symlink("../outside.txt", folder.path() + "/pages/leak.html");
  struct Row {
    const char* page;
    const char* shown;  // Of the page; "ours": the one that explains.
  };
  for (const Row& row : {Row{"lost.html", "<p>lost at sea"}, Row{"lost.php", "Sorry 404"}, Row{"broken.php", "ours"},
                         Row{"cgi-bin/closed", "ours"}, Row{".hidden", "ours"}, Row{"leak.html", "ours"}}) {
    CAPTURE(row.page);
    SettledServer server(folder, std::string("addresses = PORT\n[site.a]\ndocument-root = \"pages\"\n") +
                                     "[site.a.problem-pages]\n404 = \"" + row.page + "\"\n");
    const Response response = get(server.port(), "/none");
    CHECK(response.status == (std::string(row.page) == "broken.php" ? 500 : 404));
    CHECK_FALSE(has(response.body, "SECRET\n"));
    CHECK(has(response.body, std::string(row.shown) == "ours" ? "What to do" : row.shown));
    CHECK(response.field("cache-control") == "no-store");
    CHECK(server.stop() == 0);
  }
}

TEST_CASE("while files and links are exchanged, nothing is sent but what may be") {
  TempFolder folder;
  folder.write("pages/public/index.none", "x");
  folder.write("pages/fine.txt", "fine");
  folder.write("pages/source.php", "<?php /* SECRET */ echo 'ran';");
  folder.write("outside/secret.txt", "SECRET");
  folder.write("outside/SECRET-name.txt", "x");
  fs::create_directory(folder.path() + "/pages/plain");
  Server server(folder.path() + "/pages");
  std::atomic<bool> is_over{false};
  std::atomic<int> exchanges{0};
  const std::string base = folder.path() + "/pages/";
  // What a name stands for changes all the while: a file and a link to a source, a file and a link to one outside, a
  // folder and a link to one outside.
  const std::string next = base + ".next";
  const auto exchange = [&](const std::string& name, const std::string& target, bool is_link) {
    fs::remove(next);
    if (is_link) {
      fs::create_symlink(target, next);
    } else {
      fs::copy_file(base + "fine.txt", next);
    }
    std::rename(next.c_str(), (base + name).c_str());
  };
  std::thread exchanger([&] {
    for (int i = 0; !is_over; ++i) {
      exchange("run.txt", "source.php", i % 2 == 0);
      exchange("out.txt", "../outside/secret.txt", i % 2 == 0);
      const std::string folder_now = base + "place";
      const std::string away = base + ".away";
      std::error_code ignored;
      fs::rename(folder_now, away, ignored);
      if (i % 2 == 0) fs::create_symlink(folder.path() + "/outside", folder_now, ignored);
      if (i % 2 == 1) fs::create_directory(folder_now, ignored);
      fs::remove_all(away, ignored);
      ++exchanges;
    }
  });
  const auto end = std::chrono::steady_clock::now() + looking_time(std::chrono::seconds(4));
  std::atomic<int> leaks{0};
  std::vector<std::thread> clients;
  const char* const names[] = {"run.txt", "out.txt", "place/"};
  for (const char* const name : names)
    clients.emplace_back([&, name] {
      while (std::chrono::steady_clock::now() < end) {
        Connection connection(server.port());
        for (int j = 0; j < 50; ++j) {
          connection.send(std::string("GET /") + name + " HTTP/1.1\r\nHost: localhost\r\n\r\n");
          const Response response = connection.receive();
          if (response.status == 0) break;
          if (response.status == 200 && has(response.body, "SECRET")) ++leaks;
        }
      }
    });
  for (std::thread& client : clients) client.join();
  is_over = true;
  exchanger.join();
  CHECK(exchanges > 100);
  CHECK(leaks == 0);
  CHECK(server.stop() == 0);
}

TEST_CASE("a page for a foreign host names no site and no path") {
  TempFolder folder;
  folder.write("pages/index.html", "x");
  SettledServer server(folder, "addresses = [PORT]\n[site.tides]\ndocument-root = \"pages\"\n");
  TempFolder nothing;
  SettledServer without_site(nothing, "addresses = [PORT]\n");
  const auto ask = [](std::uint16_t port, const std::string& host, const std::string& target = "/") {
    Connection connection(port);
    connection.send("GET " + target + " HTTP/1.1\r\nHost: " + host + "\r\nAccept: text/html\r\n\r\n");
    return connection.receive();
  };
  for (const std::uint16_t port : {server.port(), without_site.port()}) {
    for (const std::string target : {"/", "/%zz", "/tides"}) {
      const Response foreign = ask(port, "evil.example", target);
      CAPTURE(port, target, foreign.body);
      CHECK((foreign.status == 421 || foreign.status == 400));
      for (const std::string& name : {std::string("tides.localhost"), folder.path(), std::string("/usr/bin")})
        CHECK_FALSE(has(foreign.body, name));
    }
  }
  CHECK(has(ask(server.port(), "other.localhost").body, "tides.localhost"));
  CHECK(server.stop() == 0);
}

TEST_CASE("pages of our own say what they may load, and that nothing is to be guessed") {
  TempFolder folder;
  folder.write("pages/list/a.txt", "x");
  folder.write("pages/a/index.html", "x");
  TempFolder empty;
  Server server(folder.path() + "/pages");
  Server start(empty.path());
  const std::string html = "Accept: text/html\r\n";
  for (const Response& response :
       {get(server.port(), "/none", html), get(server.port(), "/none"), get(server.port(), "/list/", html),
        get(server.port(), "/a", html), get(start.port(), "/", html), request(server.port(), "POST", "/list/", html)}) {
    CAPTURE(response.head);
    CHECK(response.field("x-content-type-options") == "nosniff");
    const std::string policy = response.field("content-security-policy");
    CHECK(has(policy, "default-src 'none'"));
    CHECK(has(policy, "frame-ancestors 'none'"));
    const std::size_t style = response.body.find("<style>");
    if (style == std::string::npos) continue;
    const std::string css = response.body.substr(style + 7, response.body.find("</style>") - style - 7);
    CHECK(has(policy, "style-src 'sha256-" + hash_of(folder, css) + "'"));
    CHECK_FALSE(has(response.body, "style=\""));
  }
  CHECK(get(server.port(), "/list/a.txt").field("content-security-policy").empty());
  CHECK(server.stop() == 0);
  CHECK(start.stop() == 0);
}

TEST_CASE("an error message makes no file of the machine readable, and nothing that is named there is waited for") {
  TempFolder folder;
  folder.write("outside/secret.py", "SECRET\n");
  folder.write("pages/lib/tides.py", "first\nhigh = SHOWN\nlast\n");
  folder.write("pages/.env", "SECRET\n");
  ::mkfifo((folder.path() + "/pages/pipe").c_str(), 0644);
  const std::string base = folder.path();
  fs::create_symlink("../outside/secret.py", base + "/pages/link.py");
  folder.write("pages/cgi-bin/names",
               "#!/bin/sh\nprintf 'Traceback (most recent call last):\\n  File \"%s\", line 1, in x\\nError: no\\n' "
               "\"$(printf '%s' \"$QUERY_STRING\")\" >&2\nexit 1\n",
               0755);
  Server server(folder.path() + "/pages", {"--threads", "1"});
  const auto page = [&](const std::string& path) {
    const auto begun = std::chrono::steady_clock::now();
    const Response response = get(server.port(), "/cgi-bin/names?" + path, "Accept: text/html\r\n");
    CHECK(response.status == 500);
    CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(5));
    return response.body;
  };
  for (const std::string& path : {base + "/outside/secret.py", base + "/pages/link.py", base + "/pages/.env",
                                  base + "/pages/../outside/secret.py", std::string("/etc/passwd")}) {
    CAPTURE(path);
    const std::string body = page(path);
    CHECK_FALSE(has(body, "SECRET"));
    CHECK_FALSE(has(body, "root:x"));
  }
  for (const std::string& path :
       {base + "/pages/pipe", std::string("/dev/zero"), std::string("/dev/tty"), std::string("/dev/stdin")})
    CHECK_FALSE(has(page(path), "The source around it"));
  CHECK(has(page(base + "/pages/lib/tides.py"), "SHOWN"));
  CHECK(server.stop() == 0);
}
