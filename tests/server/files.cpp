#include <sys/stat.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <csignal>

#include "support/support.hpp"

using namespace porter::test;

TEST_CASE("a file is sent with its type, length and date, and always checked again") {
  TempFolder folder;
  folder.write("index.html", "<h1>Gull Sound</h1>");
  Server server(folder.path());
  const Response response = get(server.port(), "/");
  CHECK(response.status == 200);
  CHECK(response.body == "<h1>Gull Sound</h1>");
  CHECK(response.field("content-type") == "text/html; charset=utf-8");
  CHECK(response.field("content-length") == "19");
  CHECK(response.field("cache-control") == "no-cache");
  CHECK(response.field("last-modified").size() == 29);
  CHECK(response.field("date").size() == 29);

  const Response head = request(server.port(), "HEAD", "/");
  CHECK(head.field("content-length") == "19");

  folder.write("index.html", "<h1>Edited</h1>");
  CHECK(get(server.port(), "/").body == "<h1>Edited</h1>");
  CHECK(server.stop() == 0);
}

TEST_CASE("a large file arrives as it is") {
  TempFolder folder;
  std::string content;
  for (int i = 0; content.size() < 9'000'000; ++i) content += std::to_string(i) + "\n";
  folder.write("crossings.log", content);
  Server server(folder.path());
  CHECK(get(server.port(), "/crossings.log").body == content);
  CHECK(server.stop() == 0);
}

TEST_CASE("a folder redirects to its slash, then shows its index file or its entries") {
  TempFolder folder;
  folder.write("photos/b <i>.txt", "x");
  folder.write("photos/harbour/a", "x");
  folder.write("photos/.hidden", "x");
  folder.write("photos/menu.php", "<?php");
  folder.write("sub/index.htm", "index");
  Server server(folder.path());
  const Response redirect = get(server.port(), "/photos?sort=size");
  CHECK(redirect.status == 301);
  CHECK(redirect.field("location") == "/photos/?sort=size");
  CHECK(get(server.port(), "/sub/").body == "index");
  const std::string page = get(server.port(), "/photos/").body;
  CHECK(page.find("<a href=\"./b%20%3Ci%3E.txt\">b &lt;i&gt;.txt</a>") != std::string::npos);
  CHECK(page.find("harbour/") < page.find("b &lt;i"));
  CHECK(page.find("menu.php</a><span class=\"runs\">") != std::string::npos);
  CHECK(page.find("hidden") == std::string::npos);
  CHECK(page.find("1 folder, 2 files") != std::string::npos);
  CHECK(page.find("<a href=\"../\"") != std::string::npos);
  CHECK(get(server.port(), "/photos/b%20%3Ci%3E.txt").body == "x");
  CHECK(server.stop() == 0);
}

TEST_CASE("a problem is explained to a browser in HTML and to others as text") {
  TempFolder folder;
  folder.write("timetable.html", "x");
  Server server(folder.path());
  const Response text = get(server.port(), "/timetabel.html");
  CHECK(text.status == 404);
  CHECK(text.field("content-type") == "text/plain; charset=utf-8");
  CHECK(text.body.find("path-not-found") != std::string::npos);
  CHECK(text.body.find("/timetable.html ?") != std::string::npos);
  CHECK(text.body.find(folder.path() + "/timetabel.html") != std::string::npos);
  const Response html = get(server.port(), "/<b>", "Accept: text/html,*/*\r\n");
  CHECK(html.field("content-type") == "text/html; charset=utf-8");
  CHECK(html.body.find("&lt;b&gt;") != std::string::npos);
  CHECK(html.body.find("<b>") == std::string::npos);
  const Response post = request(server.port(), "POST", "/timetable.html", "", "x=1");
  CHECK(post.status == 405);
  CHECK(post.field("allow") == "GET, HEAD, OPTIONS");
  CHECK(server.stop() == 0);
}

TEST_CASE("what may not be read is refused with the command that allows it") {
  TempFolder folder;
  folder.write("secret.html", "x", 0000);
  folder.write("closed/page.html", "x");
  ::chmod((folder.path() + "/closed").c_str(), 0600);
  // The administrator may read everything, so the server runs as somebody else.
  std::vector<std::string> words = {built("uporterd"), "--folder", folder.path(), "--port", "0"};
  if (::getuid() == 0) words.insert(words.begin(), {"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"});
  Program program(words);
  const std::string lines = program.read_until("Ctrl+C\n\n");
  const std::size_t at = lines.find("localhost:");
  REQUIRE(at != std::string::npos);
  const auto port = static_cast<std::uint16_t>(std::stoi(lines.substr(at + 10)));
  const Response file = get(port, "/secret.html");
  CHECK(file.status == 403);
  CHECK(file.body.find("chmod a+r " + folder.path() + "/secret.html") != std::string::npos);
  const Response below = get(port, "/closed/page.html");
  CHECK(below.status == 403);
  CHECK(below.body.find("chmod a+rx " + folder.path() + "/closed") != std::string::npos);
  CHECK(get(port, "/closed/").status == 403);
  ::chmod((folder.path() + "/closed").c_str(), 0755);
  program.signal(SIGTERM);
  CHECK(program.wait() == 0);
}
