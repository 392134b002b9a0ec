// Whole applications, as their templates make them: each believes that it is at home where it was put, and routes by
// itself what it is given of the path.
#include <catch2/catch.hpp>

#include "support/support.hpp"

using namespace porter::test;

namespace {

// An application of each kind answers "route|home|query" and knows "/static/…" not at all: that is for the server.

constexpr auto kWsgi = R"(#!/usr/bin/env python3
from wsgiref.handlers import CGIHandler
from wsgiref.util import application_uri

def app(environ, start_response):
    start_response("200 OK", [("Content-Type", "text/plain; charset=utf-8")])
    home = application_uri(environ).split("/", 3)[-1]
    route = environ.get("PATH_INFO", "").encode("latin-1").decode("utf-8")
    return ["{}|{}|{}".format(route, home, environ["QUERY_STRING"]).encode()]

CGIHandler().run(app)
)";

constexpr auto kPsgi = R"(#!/usr/bin/perl
my $app = sub {
  my $env = shift;
  my $home = $env->{SCRIPT_NAME}; $home =~ s{^/}{};
  return [200, ['Content-Type' => 'text/plain'], ["$env->{PATH_INFO}|$home|$env->{QUERY_STRING}"]];
};
my %env = (%ENV, 'psgi.version' => [1, 1], 'psgi.url_scheme' => 'http', 'psgi.input' => *STDIN);
$env{SCRIPT_NAME} = '' unless defined $env{SCRIPT_NAME};
$env{PATH_INFO} = '' unless defined $env{PATH_INFO};
my $response = $app->(\%env);
print "Status: $response->[0]\r\n";
while (my ($name, $value) = splice(@{$response->[1]}, 0, 2)) { print "$name: $value\r\n"; }
print "\r\n", @{$response->[2]};
)";

constexpr auto kRack = R"(#!/usr/bin/env ruby
app = lambda do |env|
  home = env["SCRIPT_NAME"].sub(%r{\A/}, "")
  [200, { "Content-Type" => "text/plain" }, ["#{env['PATH_INFO']}|#{home}|#{env['QUERY_STRING']}"]]
end
env = ENV.to_h
env["SCRIPT_NAME"] = "" if env["SCRIPT_NAME"].nil? || env["SCRIPT_NAME"] == "/"
status, head, body = app.call({ "PATH_INFO" => "" }.merge(env))
print "Status: #{status}\r\n"
head.each { |name, value| print "#{name}: #{value}\r\n" }
print "\r\n"
body.each { |part| print part }
)";

constexpr auto kPhp = R"(<?php
$home = trim(str_replace('\\', '/', dirname($_SERVER['SCRIPT_NAME'])), '/');
$path = rawurldecode(parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH));
if ($home !== '' && str_starts_with($path, "/$home/")) $path = substr($path, strlen($home) + 1);
echo "$path|$home|", $_SERVER['QUERY_STRING'];
)";

struct Kind {
  const char* name;
  const char* file;  ///< Below the project.
  const char* text;
  unsigned mode;
};

}  // namespace

TEST_CASE("applications live at the root, at a mount and in a folder, with their files beside them") {
  const auto kind = GENERATE(values<Kind>({
      {"WSGI", "cgi-bin/app.py", kWsgi, 0755},
      {"PSGI", "cgi-bin/app.pl", kPsgi, 0755},
      {"Rack", "cgi-bin/app.rb", kRack, 0755},
      {"PHP", "index.php", kPhp, 0644},
  }));
  CAPTURE(kind.name);
  TempFolder folder;
  const std::string file = kind.file;
  for (const std::string project : {"root", "both/shop", "both/desk", "away", "plain"}) {
    folder.write(project + "/" + file, kind.text, kind.mode);
    folder.write(project + "/static/gull.txt", "gull");
    folder.write(project + "/data.json", "{}");
  }
  const std::string is_page = std::string(kind.name) == "PHP" ? "/index.php" : "";
  SettledServer server(folder,
                       "addresses = [PORT]\n"
                       "[site.root]\ndocument-root = \"root\"\nfallback = \"" +
                           file +
                           "\"\n"
                           "[site.both]\ndocument-root = \"both\"\n"
                           "[site.both.fallbacks]\n\"/shop\" = \"shop/" +
                           file + "\"\n\"/desk\" = \"desk/" + file + "\"\n\"/away\" = \"" + file +
                           "\"\n[site.both.mounts]\n\"/away\" = \"away\"\n"
                           "[site.whole]\ndocument-root = \"plain\"\n"
                           "[site.whole.mounts]\n\"/\" = \"plain/" +
                           file +
                           "\"\n\"/static\" = \"plain/static\"\n"
                           "\"/tides\" = \"plain/" +
                           file + "\"\n");
  struct Row {
    std::string site;
    std::string path;
    std::string body;
  };
  for (const Row& row : {
           Row{"root", "/boats/3?deck=upper", "/boats/3||deck=upper"},
           Row{"root", "/", "/||"},
           Row{"root", "/static/", "/static/||"},
           Row{"root", "/static/gull.txt", "gull"},
           Row{"root", "/data.json/extra", "/data.json/extra||"},
           Row{"root", "/quay%2Fnorth/a%20b", "/quay/north/a b||"},
           Row{"both", "/shop/boats/3", "/boats/3|shop|"},
           Row{"both", "/desk/boats/3?x=1", "/boats/3|desk|x=1"},
           Row{"both", "/shop/static/gull.txt", "gull"},
           Row{"both", "/away/boats", "/boats|away|"},
           Row{"both", "/away/static/gull.txt", "gull"},
           Row{"whole", "/static/gull.txt", "gull"},
       }) {
    CAPTURE(row.site, row.path);
    const Response response = ask_host(server.port(), row.site + ".localhost", row.path);
    CHECK(response.status == 200);
    CHECK(response.body == row.body);
  }
  // One that is mounted itself is told so by SCRIPT_NAME, as PHP tells its pages too.
  if (is_page.empty()) {
    for (const auto& [path, body] : {std::pair{"/boats/3", "/boats/3||"},
                                     {"/", "/||"},
                                     {"/data.json", "/data.json||"},
                                     {"/tides/TAN", "/TAN|tides|"},
                                     {"/tides", "|tides|"}}) {
      CAPTURE(path);
      CHECK(ask_host(server.port(), "whole.localhost", path).body == body);
    }
  }
  CHECK(server.stop() == 0);
}

TEST_CASE("a PHP page that is mounted at the root gets the whole path") {
  TempFolder folder;
  folder.write("app/index.php", "<?= $_SERVER['SCRIPT_NAME'], '|', $_SERVER['PATH_INFO'] ?? '-';");
  folder.write("plain/a.txt", "a");
  SettledServer server(folder,
                       "addresses = [PORT]\n[site.a]\ndocument-root = \"plain\"\nhosts = [\"localhost\"]\n"
                       "[site.a.mounts]\n\"/\" = \"app/index.php\"\n\"/desk\" = \"app/index.php\"\n");
  CHECK(get(server.port(), "/boats/3").body == "|/boats/3");
  CHECK(get(server.port(), "/desk/boats/3").body == "/desk|/boats/3");
  CHECK(server.stop() == 0);
}

TEST_CASE("scripts get any method, and files answer 405 to those that are not theirs") {
  TempFolder folder;
  folder.write("cgi-bin/method", "#!/bin/sh\nprintf \"Content-Type: text/plain\\n\\n$REQUEST_METHOD\"\n", 0755);
  folder.write("page.php", "<?= $_SERVER['REQUEST_METHOD'];");
  folder.write("a.txt", "a");
  Server server(folder.path());
  for (const std::string method : {"PROPFIND", "REPORT", "M-SEARCH", "LINK", "QUERY"}) {
    CAPTURE(method);
    CHECK(request(server.port(), method, "/cgi-bin/method").body == method);
    CHECK(request(server.port(), method, "/page.php").body == method);
    const Response refused = request(server.port(), method, "/a.txt");
    CHECK(refused.status == 405);
    CHECK(refused.field("allow") == "GET, HEAD, OPTIONS");
  }
  CHECK(server.stop() == 0);
}
