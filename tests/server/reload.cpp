// Settings that change below load: no request is lost.
#include <catch2/catch.hpp>
#include <csignal>
#include <filesystem>

#include "support/support.hpp"

using namespace porter::test;

TEST_CASE("fifty reloads under load, with sites and addresses coming and going, fail no request") {
  TempFolder folder;
  folder.write("a/index.html", "a");
  folder.write("b/index.html", "b");
  folder.write("a/cgi-bin/x", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nok'\n", 0755);
  const std::string stable = std::to_string(free_port());
  const std::string coming = std::to_string(free_port());
  const std::string first = "addresses = [" + stable + "]\n[site.a]\ndocument-root = \"a\"\n";
  const std::string second = "addresses = [" + stable + ", \"127.0.0.1:" + coming +
                             "\"]\n[site.b]\ndocument-root = \"b\"\nhosts = \"b.localhost\"\n[site.a]\ndocument-root = "
                             "\"a\"\nhosts = [\"a.localhost\", \"localhost\"]\n";
  const std::string file = folder.write("uporter.toml", first);
  Program server({built("uporterd"), "--settings", file},
                 {"HOME=" + folder.path(), "XDG_STATE_HOME=" + folder.path(), "XDG_RUNTIME_DIR=", "NOTIFY_SOCKET="});
  REQUIRE(server.read_until("Stop ").find("Stop ") != std::string::npos);
  // One keeps its connections, one opens a new one for each request, one runs a script.
  const std::string url = "http://localhost:" + stable + "/";
  Program keeping({"wrk", "-t1", "-c8", "-d8s", url});
  Program opening({"wrk", "-t1", "-c4", "-d8s", "-H", "Connection: close", url});
  Program running({"wrk", "-t1", "-c2", "-d8s", url + "cgi-bin/x"});
  const std::size_t descriptors = open_descriptors(server.id());
  std::string control;
  for (const auto& entry : std::filesystem::directory_iterator(folder.path() + "/upright-porter"))
    if (std::filesystem::exists(entry.path() / "control")) control = entry.path().string() + "/control";
  int applied = 0;
  for (int i = 1; i <= 50; ++i) {
    folder.write("uporter.toml", i % 2 == 1 ? second : first);
    Program reload({"curl", "-s", "-X", "POST", "-o", "/dev/null", "-w", "%{http_code}", "--unix-socket", control,
                    "http://localhost/v1/reload"});
    applied += reload.output() == "200" ? 1 : 0;
    pause_ms(50);
  }
  CHECK(applied == 50);
  for (Program* const load : {&keeping, &opening, &running}) {
    const std::string result = load->output();
    CAPTURE(result);
    CHECK(result.find("Socket errors") == std::string::npos);
    CHECK(result.find("Non-2xx") == std::string::npos);
    const std::size_t told = result.find(" requests in");
    REQUIRE(told != std::string::npos);
    CHECK(std::stoul(result.substr(result.rfind(' ', told - 1) + 1)) > 0);
    CHECK(load->wait() == 0);
  }
  CHECK(eventually([&] { return open_descriptors(server.id()) <= descriptors + 4; }));
  server.signal(SIGTERM);
  CHECK(server.wait() == 0);
}

TEST_CASE("what was asked at an address that is given up is still answered by its site, and by no other") {
  TempFolder folder;
  folder.write("a/index.html", "site a");
  folder.write("b/index.html", "site b");
  folder.write("b/cgi-bin/slow", "#!/bin/sh\nsleep 1; printf 'Content-Type: text/plain\\n\\nslow b'\n", 0755);
  const std::uint16_t other = free_port();
  const std::string common = "addresses = PORT\n[site.a]\ndocument-root = \"a\"\n";
  const std::string with_b = common + "[site.b]\naddresses = " + std::to_string(other) + "\ndocument-root = \"b\"\n";
  SettledServer server(folder, with_b);
  Connection connection(other);
  // Without Host the address alone says which site is meant.
  connection.send("GET /cgi-bin/slow HTTP/1.0\r\nConnection: keep-alive\r\n\r\nGET / HTTP/1.0\r\n\r\n");
  pause_ms(300);
  std::string without_b = common;
  without_b.replace(without_b.find("PORT"), 4, std::to_string(server.port()));
  folder.write("uporter.toml", without_b);
  CHECK(eventually([&] {
    try {
      const Connection attempt(other);
      return false;
    } catch (const std::runtime_error&) {
      return true;
    }
  }));
  CHECK(connection.receive().body == "slow b");
  const Response next = connection.receive();
  CHECK((next.status == 0 || next.body == "site b"));
  CHECK(server.stop() == 0);
}

TEST_CASE("a document root that is a link is followed to where it leads by now") {
  const bool has_settings = GENERATE(true, false);
  CAPTURE(has_settings);
  TempFolder folder;
  for (const char* const release : {"summer", "winter"}) {
    folder.write(release + std::string("/tide.txt"), release);
    folder.write(release + std::string("/tide.php"), "<?php echo '" + std::string(release) + "';");
  }
  const std::string link = folder.path() + "/current";
  std::filesystem::create_symlink("summer", link);
  const std::string port = std::to_string(free_port());
  const std::string settings =
      folder.write("uporter.toml", "addresses = [" + port + "]\n[site.tides]\ndocument-root = \"current\"\n");
  std::vector<std::string> words = {built("uporterd"), "--settings", settings};
  if (!has_settings) words = {built("uporterd"), "--folder", link, "--port", port};
  Program server(words, SettledServer::environment(folder));
  REQUIRE(has(server.read_until("Ctrl+C\n\n"), "Ctrl+C"));
  const auto shows = [&](const std::string& release) {
    return eventually([&] {
      const auto number = static_cast<std::uint16_t>(std::stoi(port));
      return get(number, "/tide.txt").body == release && get(number, "/tide.php").body == release;
    });
  };
  CHECK(shows("summer"));
  // In one step, as those who put releases in place do, and in two.
  std::filesystem::create_symlink("winter", folder.path() + "/next");
  std::filesystem::rename(folder.path() + "/next", link);
  CHECK(shows("winter"));
  std::filesystem::remove(link);
  std::filesystem::create_symlink("summer", link);
  CHECK(shows("summer"));
  server.signal(SIGTERM);
  CHECK(server.wait() == 0);
}
