#include "core/sites/resolve.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <catch2/catch.hpp>
#include <filesystem>

#include "core/sites/listing.hpp"
#include "support/support.hpp"

using namespace porter;
using namespace porter::sites;
using porter::test::TempFolder;

namespace {

/// A site on a folder of the test's own, with `programs` in place of the machine's interpreters.
struct Place {
  TempFolder folder;
  Settings settings;

  Place() {
    settings.sites.emplace_back();
    settings.sites.front().document_root = folder.path() + "/pages";
    settings.search_path = folder.path() + "/programs";
    folder.write("programs/php-cgi", "#!/bin/sh\n", 0755);
    folder.write("pages/index.html", "home");
    folder.write("pages/timetable.html", "x");
    folder.write("pages/notices.php", "<?php");
    folder.write("pages/shouted.PHP", "<?php");
    folder.write("pages/sub/index.php", "<?php");
    folder.write("pages/plain/a file.txt", "x");
    folder.write("pages/plain/copy.txt~", "x");
    folder.write("pages/.secret", "x");
    folder.write("pages/.git/config", "x");
    folder.write("pages/.well-known/security.txt", "x");
    folder.write("pages/tool.py", "print()");
    folder.write("pages/cgi-bin/fares", "#!/bin/sh\n", 0755);
    folder.write("pages/cgi-bin/data.csv", "a");
    folder.write("pages/cgi-bin/deep/tides.pl", "#!/usr/bin/perl\n", 0755);
    folder.write("outside.txt", "secret");
    const std::string root = settings.sites.front().document_root;
    std::filesystem::create_symlink("timetable.html", root + "/inside.html");
    std::filesystem::create_symlink(root + "/timetable.html", root + "/absolute.html");
    std::filesystem::create_symlink("../outside.txt", root + "/leak.txt");
    std::filesystem::create_symlink("/etc", root + "/etc");
    std::filesystem::create_symlink("/proc/self", root + "/self");
    std::filesystem::create_symlink("loop", root + "/loop");
    std::filesystem::create_symlink("cgi-bin", root + "/public");
    std::filesystem::create_symlink("notices.php", root + "/notices.txt");
    ::mkfifo((root + "/pipe").c_str(), 0644);
  }

  Resolution look_up(const std::string& path, std::string_view method = "GET") {
    const auto target = std::get<http::Target>(http::parse_target(path, method));
    return resolve(settings, settings.sites.front(), {method, target});
  }

  /// The outcome in short, with the folder's own path written as "~".
  std::string short_outcome(const std::string& path, std::string_view method = "GET") {
    const Resolution resolution = look_up(path, method);
    CHECK_FALSE(resolution.trail.empty());
    std::string out;
    if (const auto* const file = std::get_if<FileFound>(&resolution.outcome)) out = "file " + file->path;
    if (const auto* const list = std::get_if<FolderFound>(&resolution.outcome)) out = "folder " + list->path;
    if (const auto* const to = std::get_if<Redirect>(&resolution.outcome)) out = "redirect " + to->location;
    if (const auto* const script = std::get_if<ScriptFound>(&resolution.outcome))
      out = "run " + script->interpreter + " " + script->path + " " + script->name + " " + script->path_info;
    if (const auto* const finding = std::get_if<Finding>(&resolution.outcome)) out = code_name(finding->code);
    for (std::size_t at = 0; (at = out.find(folder.path(), at)) != out.npos;)
      out.replace(at, folder.path().size(), "~");
    return out;
  }
};

}  // namespace

TEST_CASE("a path leads to what lies there") {
  struct Row {
    std::string path;
    std::string outcome;
  };
  const auto row = GENERATE(values<Row>({
      {"/", "file ~/pages/index.html"},
      {"/timetable.html", "file ~/pages/timetable.html"},
      {"/timetable.html/", "not-a-folder"},
      {"/timetable.html/x", "not-a-folder"},
      {"/plain", "redirect /plain/"},
      {"/plain?sort=size", "redirect /plain/?sort=size"},
      {"//plain", "redirect /plain/"},
      {"/plain/", "folder ~/pages/plain"},
      {"/plain/a%20file.txt", "file ~/pages/plain/a file.txt"},
      {"/plain/copy.txt~", "backup-file"},
      {"/sub/", "run ~/programs/php-cgi ~/pages/sub/index.php /sub/index.php "},
      {"/notices.php", "run ~/programs/php-cgi ~/pages/notices.php /notices.php "},
      {"/shouted.PHP", "run ~/programs/php-cgi ~/pages/shouted.PHP /shouted.PHP "},
      {"/notices.php/TAN/2", "run ~/programs/php-cgi ~/pages/notices.php /notices.php /TAN/2"},
      {"/notices.php/", "run ~/programs/php-cgi ~/pages/notices.php /notices.php /"},
      {"/notices.php//a//b/", "run ~/programs/php-cgi ~/pages/notices.php /notices.php //a//b/"},
      {"/cgi-bin/fares", "run  ~/pages/cgi-bin/fares /cgi-bin/fares "},
      {"/cgi-bin/fares/x", "run  ~/pages/cgi-bin/fares /cgi-bin/fares /x"},
      {"/cgi-bin/deep/tides.pl", "run  ~/pages/cgi-bin/deep/tides.pl /cgi-bin/deep/tides.pl "},
      {"/cgi-bin/data.csv", "script-not-executable"},
      {"/cgi-bin/", "folder ~/pages/cgi-bin"},
      {"/tool.py", "script-outside-script-folder"},
      {"/.secret", "hidden-file"},
      {"/.git/config", "hidden-file"},
      {"/.git/nothing", "hidden-file"},
      {"/.nothing", "path-not-found"},
      {"/.well-known/security.txt", "file ~/pages/.well-known/security.txt"},
      {"/inside.html", "file ~/pages/inside.html"},
      {"/absolute.html", "file ~/pages/absolute.html"},
      {"/leak.txt", "outside-root"},
      {"/etc/passwd", "outside-root"},
      {"/self/environ", "outside-root"},
      {"/loop", "outside-root"},
      {"/../outside.txt", "path-not-found"},
      {"/public/fares", "run  ~/pages/public/fares /public/fares "},
      {"/public/data.csv", "script-not-executable"},
      {"/notices.txt", "run ~/programs/php-cgi ~/pages/notices.txt /notices.txt "},
      {"/pipe", "special-file"},
      {"/nothing", "path-not-found"},
      {"/nothing/below", "path-not-found"},
      {"/pages/timetable.html", "root-name-in-url"},
      {"/Pages/", "root-name-in-url"},
  }));
  Place place;
  CAPTURE(row.path);
  CHECK(place.short_outcome(row.path) == row.outcome);
}

TEST_CASE("methods that change things are for scripts") {
  Place place;
  CHECK(place.short_outcome("/timetable.html", "POST") == "method-not-allowed");
  CHECK(place.short_outcome("/plain/", "DELETE") == "method-not-allowed");
  CHECK(place.short_outcome("/timetable.html", "HEAD") == "file ~/pages/timetable.html");
  CHECK(place.short_outcome("/cgi-bin/fares", "PUT").starts_with("run"));
}

TEST_CASE("a missing path names the nearest, and a typed root name the right URL") {
  Place place;
  auto resolution = place.look_up("/plain/afile.txt");
  CHECK(std::get<Finding>(resolution.outcome).fact("nearest_url") == "/plain/a%20file.txt");
  resolution = place.look_up("/pages/sub/index.php");
  CHECK(std::get<Finding>(resolution.outcome).fact("url") == "/sub/index.php");
  CHECK(std::get<Finding>(place.look_up("/pages/").outcome).fact("url") == "/");
  CHECK(std::get<Finding>(place.look_up("/pages/sub/").outcome).fact("url") == "/sub/");
  resolution = place.look_up(place.settings.sites.front().document_root + "/timetable.html");
  CHECK(std::get<Finding>(resolution.outcome).fact("url") == "/timetable.html");
}

TEST_CASE("settings decide about listing and interpreters") {
  Place place;
  place.settings.sites.front().listing = false;
  CHECK(place.short_outcome("/plain/") == "no-index");
  place.settings.search_path = "/nowhere";
  CHECK(place.short_outcome("/notices.php") == "interpreter-not-installed");
  place.settings.sites.front().document_root += "/gone";
  CHECK(place.short_outcome("/") == "document-root-gone");
}

TEST_CASE("mounts show folders and files from elsewhere, and hide what has their path") {
  Place place;
  Site& site = place.settings.sites.front();
  const std::string path = place.folder.path();
  place.folder.write("elsewhere/log.txt", "x");
  place.folder.write("elsewhere/index.html", "x");
  place.folder.write("elsewhere/pages.php", "<?php");
  place.folder.write("elsewhere/cgi-bin/run", "#!/bin/sh\n", 0755);
  place.folder.write("one.pl", "#!/usr/bin/perl\n", 0755);
  place.folder.write("one.txt", "x");
  site.mounts = {{"/old/papers", path + "/elsewhere"},
                 {"/tool", path + "/one.pl"},
                 {"/note", path + "/one.txt"},
                 {"/plain", path + "/elsewhere"},
                 {"/gone", path + "/gone"}};
  struct Row {
    std::string path;
    std::string outcome;
  };
  for (const Row& row :
       {Row{"/old/papers/log.txt", "file ~/elsewhere/log.txt"}, Row{"/old/papers", "redirect /old/papers/"},
        Row{"/old/papers/", "file ~/elsewhere/index.html"},
        Row{"/old/papers/pages.php/x", "run ~/programs/php-cgi ~/elsewhere/pages.php /old/papers/pages.php /x"},
        Row{"/old/papers/cgi-bin/run", "run  ~/elsewhere/cgi-bin/run /old/papers/cgi-bin/run "},
        Row{"/old/papers/none", "path-not-found"}, Row{"/old/papers/../../outside.txt", "path-not-found"},
        Row{"/old", "path-not-found"}, Row{"/tool", "run  ~/one.pl /tool "},
        Row{"/tool/a/b", "run  ~/one.pl /tool /a/b"}, Row{"/tools", "path-not-found"}, Row{"/note", "file ~/one.txt"},
        Row{"/note/x", "not-a-folder"}, Row{"/plain/a%20file.txt", "path-not-found"},
        Row{"/plain/log.txt", "file ~/elsewhere/log.txt"}, Row{"/gone/x", "document-root-gone"}}) {
    CAPTURE(row.path);
    CHECK(place.short_outcome(row.path) == row.outcome);
  }
  site.index_files.clear();
  const auto entries = std::get<std::vector<Entry>>(
      read_entries(place.settings, site, std::get<FolderFound>(place.look_up("/").outcome)));
  CHECK(std::count_if(entries.begin(), entries.end(), [](const Entry& entry) { return entry.name == "plain"; }) == 1);
  CHECK(std::any_of(entries.begin(), entries.end(), [](const Entry& entry) { return entry.name == "tool"; }));
}

TEST_CASE("a fallback answers for paths that match nothing, and for those alone") {
  Place place;
  Site& site = place.settings.sites.front();
  site.fallback = "notices.php";
  const std::string fallback = "run ~/programs/php-cgi ~/pages/notices.php /notices.php ";
  struct Row {
    std::string path;
    std::string outcome;
  };
  for (const Row& row : {Row{"/bookings/12", fallback}, Row{"/none", fallback}, Row{"/plain/none", fallback},
                         Row{"/timetable.html", "file ~/pages/timetable.html"}, Row{"/.secret", "hidden-file"},
                         Row{"/notices.php/x", "run ~/programs/php-cgi ~/pages/notices.php /notices.php /x"},
                         Row{"/leak.txt", "outside-root"}}) {
    CAPTURE(row.path);
    CHECK(place.short_outcome(row.path) == row.outcome);
  }
  CHECK(place.short_outcome("/none", "POST") == fallback);
  site.fallback = "gone.php";
  CHECK(place.short_outcome("/none") == "fallback-missing");
}

TEST_CASE("a site runs the languages and shows the hidden files that it allows") {
  Place place;
  Site& site = place.settings.sites.front();
  site.interpreters = {"Perl"};
  CHECK(place.short_outcome("/notices.php") == "interpreter-not-allowed");
  CHECK(place.short_outcome("/cgi-bin/deep/tides.pl").starts_with("run"));
  CHECK(place.short_outcome("/cgi-bin/fares") == "interpreter-not-allowed");
  site.interpreters = {"Shell"};
  CHECK(place.short_outcome("/cgi-bin/fares").starts_with("run"));
  site.hidden_files_shown = {".secret"};
  CHECK(place.short_outcome("/.secret") == "file ~/pages/.secret");
  CHECK(place.short_outcome("/.well-known/security.txt") == "hidden-file");
  site.hidden_files_shown = {"*"};
  CHECK(place.short_outcome("/.git/config") == "file ~/pages/.git/config");
}

TEST_CASE("a document root that is a script folder itself runs what is in it") {
  Place place;
  place.settings.sites.front().document_root += "/cgi-bin";
  CHECK(place.short_outcome("/fares") == "run  ~/pages/cgi-bin/fares /fares ");
  CHECK(place.short_outcome("/data.csv") == "script-not-executable");
}

TEST_CASE("a listing shows what a visitor may open, folders first, in the order asked for") {
  Place place;
  const auto resolution = place.look_up("/cgi-bin/");
  const auto& found = std::get<FolderFound>(resolution.outcome);
  place.folder.write("pages/cgi-bin/.hidden", "");
  place.folder.write("pages/cgi-bin/old.bak", "");
  auto entries = std::get<std::vector<Entry>>(read_entries(place.settings, place.settings.sites.front(), found));
  struct Row {
    std::string query;
    std::string names;
  };
  for (const auto& row :
       {Row{"", "deep/ data.csv fares* "}, Row{"sort=size", "deep/ data.csv fares* "},
        Row{"sort=size&order=down", "deep/ fares* data.csv "}, Row{"order=down", "deep/ fares* data.csv "}}) {
    CAPTURE(row.query);
    sort_entries(entries, order_from_query(row.query));
    std::string names;
    for (const Entry& entry : entries) names += entry.name + (entry.is_folder ? "/" : entry.runs ? "*" : "") + " ";
    CHECK(names == row.names);
  }
}
