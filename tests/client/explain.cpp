// explain, in both directions, with and without a server.
#include <catch2/catch.hpp>

#include "support/support.hpp"

#include "core/text/json.hpp"

using namespace porter::test;

namespace {

/// Explains `what`; the codes of the findings, or the outcome, with the folder written as "~" and the ports as names.
struct Place {
  TempFolder folder;
  Server other{folder.path()};  ///< A program that is not ours.
  std::string port;

  Place() {
    folder.write("pages/index.html", "x");
    folder.write("pages/notices.php", "<?php");
    folder.write("pages/.secret", "x");
    folder.write("pages/cgi-bin/tides.pl", "#!/usr/bin/perl\n");
    folder.write("papers/log.txt", "x");
    folder.write("elsewhere/a.txt", "x");
    port = std::to_string(free_port());
    folder.write("uporter.toml",
                 "addresses = " + port +
                     "\n[site.gulls]\nhosts = [\"gulls.localhost\", \"*.gulls.localhost\"]\ndocument-root = "
                     "\"pages\"\n[site.gulls.mounts]\n\"/old\" = \"papers\"\n");
  }
  ~Place() { run({"stop"}); }

  std::string run(std::vector<std::string> words) {
    words.insert(words.begin(), built("uporter"));
    words.insert(words.end(), {"--settings", folder.path() + "/uporter.toml"});
    Program program(words, {"HOME=" + folder.path(), "XDG_STATE_HOME=" + folder.path() + "/state", "XDG_RUNTIME_DIR="});
    const std::string output = program.output();
    status = program.wait();
    return output;
  }

  std::string explain(std::string what) {
    const auto put = [](std::string& text, const std::string& from, const std::string& to) {
      for (std::size_t at = 0; (at = text.find(from, at)) != text.npos; at += to.size())
        text.replace(at, from.size(), to);
    };
    put(what, "PORT", port);
    put(what, "OTHER", std::to_string(other.port()));
    put(what, "~", folder.path());
    const auto json = nlohmann::json::parse(run({"explain", what, "--json"}));
    CHECK(json["served"].get<bool>() == (status == 0));
    CHECK_FALSE((json["trail"].empty() && json["findings"].empty()));
    std::string out;
    for (const auto& finding : json["findings"]) out += (out.empty() ? "" : " ") + finding["code"].get<std::string>();
    if (out.empty())
      out = json["urls"].empty() ? json["outcome"].get<std::string>() : json["urls"][0].get<std::string>();
    put(out, folder.path(), "~");
    put(out, port, "PORT");
    return out;
  }

  int status = 0;
};

struct Row {
  std::string what;
  std::string said;
};

}  // namespace

TEST_CASE("a URL is explained without being asked for") {
  Place place;
  CHECK(place.explain("http://gulls.localhost:PORT/") == "server-not-running");
  REQUIRE(place.run({"start"}).find("running") != std::string::npos);
  for (const Row& row : {
           Row{"http://gulls.localhost:PORT/", "The file ~/pages/index.html is sent."},
           Row{"gulls.localhost:PORT/index.html", "The file ~/pages/index.html is sent."},
           Row{"http://gulls.localhost:PORT", "The file ~/pages/index.html is sent."},
           Row{"http://gulls.localhost:PORT/?a=b#c", "The file ~/pages/index.html is sent."},
           Row{"http://x.gulls.localhost:PORT/old/log.txt", "The file ~/papers/log.txt is sent."},
           Row{"http://localhost:PORT/old", "The browser is sent on to /old/."},
           Row{"http://127.0.0.1:PORT/old/", "The entries of the folder ~/papers are listed."},
           Row{"http://[::1]:PORT/notices.php/12", "The script ~/pages/notices.php is run by /usr/bin/php-cgi."},
           Row{"http://gulls.localhost:PORT/indx.html", "path-not-found"},
           Row{"http://gulls.localhost:PORT/pages/index.html", "root-name-in-url"},
           Row{"http://gulls.localhost:PORT/.secret", "hidden-file"},
           Row{"http://gulls.localhost:PORT/cgi-bin/tides.pl", "script-not-executable"},
           Row{"http://gulls.localhost:PORT/%zz", "malformed-target"},
           Row{"http://other.localhost:PORT/", "host-not-served"},
           Row{"http://gulls.localhost:1/", "other-port"},
           Row{"http://gulls.localhost:OTHER/", "other-program"},
           Row{"http://gulls.invalid:PORT/", "name-not-here"},
           Row{"http://192.0.2.7:PORT/", "address-not-here"},
           Row{"https://gulls.localhost:PORT/", "tls-on-plain-port"},
           Row{"ftp://gulls.localhost/", "not-a-url"},
           Row{"http:///x", "not-a-url"},
       }) {
    CAPTURE(row.what);
    CHECK(place.explain(row.what) == row.said);
  }
  place.run({"stop"});
  CHECK(place.explain("http://gulls.localhost:PORT/indx.html") == "server-not-running path-not-found");
}

TEST_CASE("a file on disk is explained by its URLs, or by why it has none") {
  Place place;
  CHECK(place.explain("~/pages/index.html") == "server-not-running");
  REQUIRE(place.run({"start"}).find("running") != std::string::npos);
  for (const Row& row : {
           Row{"~/pages/index.html", "http://gulls.localhost:PORT/"},
           Row{"file://~/pages/index.html", "http://gulls.localhost:PORT/"},
           Row{"file://localhost~/pages/notices.php", "http://gulls.localhost:PORT/notices.php"},
           Row{"~/pages", "http://gulls.localhost:PORT/"},
           Row{"~/pages/../papers/log.txt", "http://gulls.localhost:PORT/old/log.txt"},
           Row{"~/papers", "http://gulls.localhost:PORT/old/"},
           Row{"~/pages/.secret", "hidden-file"},
           Row{"~/pages/cgi-bin/tides.pl", "script-not-executable"},
           Row{"~/pages/gone.html", "no-such-file"},
           Row{"~/elsewhere/a.txt", "file-not-served"},
           Row{"~/elsewhere", "file-not-served"},
           Row{"file://", "not-a-url"},
       }) {
    CAPTURE(row.what);
    CHECK(place.explain(row.what) == row.said);
  }
}
