#include "core/sites/resolve.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <catch2/catch.hpp>
#include <filesystem>

#include "core/sites/listing.hpp"
#include "core/sites/shown_names.hpp"
#include "support/support.hpp"

using namespace porter;
using namespace porter::sites;
using porter::test::TempFolder;

namespace {

/// A site on a folder of the test's own, with `programs` in place of the machine's interpreters.
struct Place {
  TempFolder folder;
  Settings settings;
  std::string search_path;

  Place() {
    settings.sites.emplace_back();
    settings.sites.front().document_root = folder.path() + "/pages";
    search_path = folder.path() + "/programs";
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
    return resolve({settings, search_path}, settings.sites.front(), {method, target});
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
  place.search_path = "/nowhere";
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
  const auto entries = std::get<std::vector<sites::Row>>(
      read_entries(place.settings, site, std::get<FolderFound>(place.look_up("/").outcome)));
  CHECK(std::count_if(entries.begin(), entries.end(), [](const sites::Row& entry) { return entry.name == "plain"; }) ==
        1);
  CHECK(std::any_of(entries.begin(), entries.end(), [](const sites::Row& entry) { return entry.name == "tool"; }));
}

TEST_CASE("a fallback answers for paths that match nothing, and for those alone") {
  Place place;
  Site& site = place.settings.sites.front();
  site.fallbacks = {{"/", site.document_root, "notices.php", "/notices.php"}};
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
  site.fallbacks.front().script = "gone.php";
  CHECK(place.short_outcome("/none") == "fallback-missing");
}

TEST_CASE("an application is at home at the path of its fallback or mount, with the rest of the path as its own") {
  Place place;
  Site& site = place.settings.sites.front();
  const std::string base = place.folder.path();
  const std::string root = site.document_root;
  place.folder.write("pages/cgi-bin/app", "#!/usr/bin/python3\n", 0755);
  place.folder.write("pages/shop/index.php", "<?php");
  place.folder.write("pages/shop/photo.txt", "x");
  place.folder.write("pages/shop/static/x.txt", "x");
  place.folder.write("elsewhere/app.pl", "#!/usr/bin/perl\n", 0755);
  place.folder.write("elsewhere/static/x.txt", "x");
  site.fallbacks = {{"/", root, "cgi-bin/app", "/cgi-bin/app"}, {"/shop", root, "shop/index.php", "/shop/index.php"}};
  site.mounts = {{"/desk", base + "/elsewhere/app.pl"}, {"/desk/static", base + "/elsewhere/static"}};
  const std::string app = "run  ~/pages/cgi-bin/app ";
  const std::string shop = "run ~/programs/php-cgi ~/pages/shop/index.php /shop/index.php ";
  const std::string desk = "run  ~/elsewhere/app.pl /desk ";
  struct Row {
    std::string path;
    std::string outcome;
  };
  for (const Row& row :
       {Row{"/tides/TAN", app + " /tides/TAN"}, Row{"/tides/a%2Fb//c", app + " /tides/a/b//c"},
        Row{"/plain/", app + " /plain/"}, Row{"/plain", app + " /plain"},
        Row{"/plain/a%20file.txt", "file ~/pages/plain/a file.txt"},
        Row{"/timetable.html/x", app + " /timetable.html/x"}, Row{"/timetable.html%2Fx", app + " /timetable.html/x"},
        Row{"/", "file ~/pages/index.html"}, Row{"/shop/boats/3", shop}, Row{"/shop/", shop},
        Row{"/shop", "redirect /shop/"}, Row{"/shop/photo.txt", "file ~/pages/shop/photo.txt"},
        Row{"/shop/static/", shop}, Row{"/shopping", app + " /shopping"}, Row{"/desk", desk},
        Row{"/desk/x/y", desk + "/x/y"}, Row{"/desk/static/x.txt", "file ~/elsewhere/static/x.txt"},
        Row{"/desk/static/none", "path-not-found"},
        Row{"/cgi-bin/app/x%2fy", "run  ~/pages/cgi-bin/app /cgi-bin/app /x/y"}}) {
    CAPTURE(row.path);
    CHECK(place.short_outcome(row.path) == row.outcome);
  }
  site.listing = true;
  CHECK(place.short_outcome("/plain/") == "folder ~/pages/plain");
  site.listing.reset();
  site.fallbacks.clear();
  CHECK(place.short_outcome("/plain/a%2Fb") == "encoded-slash");
  site.mounts = {{"/", base + "/elsewhere/app.pl"}, {"/static", base + "/elsewhere/static"}};
  CHECK(place.short_outcome("/") == "run  ~/elsewhere/app.pl  /");
  CHECK(place.short_outcome("/timetable.html") == "run  ~/elsewhere/app.pl  /timetable.html");
  CHECK(place.short_outcome("/static/x.txt") == "file ~/elsewhere/static/x.txt");
}

TEST_CASE("a fallback that is no script is shown, and a mounted file is run only if it is one") {
  Place place;
  Site& site = place.settings.sites.front();
  const std::string base = place.folder.path();
  site.fallbacks = {{"/", site.document_root, "timetable.html", "/timetable.html"}};
  CHECK(place.short_outcome("/boats/3") == "file ~/pages/timetable.html");
  CHECK(place.short_outcome("/boats/3", "POST") == "method-not-allowed");
  struct Row {
    const char* name;
    const char* content;
    unsigned mode;
    std::string outcome;
  };
  for (const Row& row :
       {Row{"app.js", "let a;", 0644, "file"}, Row{"app.js", "let a;", 0755, "file"},
        Row{"serve.js", "#!/usr/bin/node\n", 0755, "run"}, Row{"note.txt", "x", 0755, "file"},
        Row{"tool", "#!/bin/sh\n", 0755, "run"}, Row{"tool.py", "print()", 0644, "script-not-executable"},
        Row{"page.php", "<?php", 0644, "run"}}) {
    CAPTURE(row.name);
    std::filesystem::remove(base + "/" + row.name);
    place.folder.write(row.name, row.content, row.mode);
    site.mounts = {{"/m", base + "/" + row.name}};
    CHECK(place.short_outcome("/m").starts_with(row.outcome));
  }
}

TEST_CASE("links lead out of the root only into folders that the site allows") {
  Place place;
  Site& site = place.settings.sites.front();
  const std::string base = place.folder.path();
  place.folder.write("shared/lib/menu.txt", "x");
  place.folder.write("shared/lib/page.php", "<?php");
  place.folder.write("shared/lib/.secret", "x");
  place.folder.write("shared/programs/tides", "#!/bin/sh\n", 0755);
  place.settings.file = "/srv/uporter.toml";
  std::filesystem::create_symlink(base + "/shared/lib", site.document_root + "/lib");
  std::filesystem::create_symlink(base + "/shared/lib/menu.txt", site.document_root + "/menu.txt");
  std::filesystem::create_symlink(base + "/shared/programs", site.document_root + "/programs");
  const Finding refused = std::get<Finding>(place.look_up("/lib/menu.txt").outcome);
  CHECK(refused.fact("allow") == "linked-folders = [\"" + base + "/shared/lib\"]");
  CHECK(command_of(refused).starts_with("uporter mount add /lib " + base + "/shared/lib --site"));
  site.linked_folders = {base + "/shared"};
  struct Row {
    std::string path;
    std::string outcome;
  };
  for (const Row& row : {Row{"/lib/menu.txt", "file ~/pages/lib/menu.txt"}, Row{"/menu.txt", "file ~/pages/menu.txt"},
                         Row{"/lib/page.php/x", "run ~/programs/php-cgi ~/pages/lib/page.php /lib/page.php /x"},
                         Row{"/lib/.secret", "hidden-file"}, Row{"/lib/", "folder ~/pages/lib"},
                         Row{"/programs/tides", "file ~/pages/programs/tides"}, Row{"/lib/none", "path-not-found"},
                         Row{"/leak.txt", "outside-root"}, Row{"/etc/passwd", "outside-root"}}) {
    CAPTURE(row.path);
    CHECK(place.short_outcome(row.path) == row.outcome);
  }
  std::filesystem::remove_all(site.document_root + "/cgi-bin");
  std::filesystem::create_symlink(base + "/shared/programs", site.document_root + "/cgi-bin");
  CHECK(place.short_outcome("/programs/tides").starts_with("run"));
}

TEST_CASE("what the settings forbid is refused by whatever name, and a link into nothing is told as that") {
  Place place;
  Site& site = place.settings.sites.front();
  place.folder.write("pages/data/tides.csv", "x");
  place.folder.write("pages/deep/data/tides.csv", "x");
  place.folder.write("pages/app/config.php", "<?php");
  place.folder.write("pages/deep/menu.inc", "x");
  std::filesystem::create_symlink("data/tides.csv", site.document_root + "/shown.csv");
  std::filesystem::create_symlink("/srv/gone", site.document_root + "/gone");
  site.forbidden = {"data/", "*.inc", "app/config.php"};
  for (const char* const path :
       {"/data/tides.csv", "/data/", "/data", "/data/none", "/deep/data/tides.csv", "/DATA/tides.csv", "/deep/menu.inc",
        "/app/config.php", "/app/config.php/x", "/shown.csv"}) {
    CAPTURE(path);
    CHECK(place.short_outcome(path) == (path == std::string("/DATA/tides.csv") ? "path-not-found" : "forbidden-path"));
  }
  CHECK(place.short_outcome("/timetable.html") == "file ~/pages/timetable.html");
  CHECK(place.short_outcome("/gone") == "link-leads-nowhere");
  const Resolution deep = place.look_up("/deep/");
  const auto rows = read_entries(place.settings, site, std::get<FolderFound>(deep.outcome), 100);
  CHECK(std::get<std::vector<Row>>(rows).empty());
}

TEST_CASE("a front end's page is no answer for what is no page") {
  struct Row {
    std::string fields;
    std::string path;
    bool is_page;
  };
  for (const Row& row : std::vector<Row>{{"Sec-Fetch-Dest: document\r\n", "/boats.js", true},
                                         {"Sec-Fetch-Dest: script\r\n", "/boats", false},
                                         {"Sec-Fetch-Dest: empty\r\nAccept: */*\r\n", "/boats", false},
                                         {"Accept: text/html,*/*\r\n", "/boats.js", true},
                                         {"Accept: application/json\r\n", "/boats", false},
                                         {"Accept: */*\r\n", "/boats", true},
                                         {"Accept: */*\r\n", "/boats.json", false},
                                         {"", "/boats/3.html", true},
                                         {"", "/boats/3.png", false}}) {
    CAPTURE(row.fields, row.path);
    const std::string text = "GET " + row.path + " HTTP/1.1\r\nHost: localhost\r\n" + row.fields + "\r\n";
    const auto head = std::get<http::RequestHead>(http::parse_head(text, {}));
    const auto target = std::get<http::Target>(http::parse_target(row.path, "GET"));
    CHECK(may_be_page(head, target) == row.is_page);
    Place place;
    Site& site = place.settings.sites.front();
    site.fallbacks = {{"/", site.document_root, "timetable.html", "/timetable.html"}};
    const auto found =
        resolve({place.settings, place.search_path}, site, {"GET", target, Asked::Near::all, row.is_page});
    CHECK(std::holds_alternative<FileFound>(found.outcome) == row.is_page);
  }
}

TEST_CASE("a project that looks as if it routes is told the command that lets it") {
  struct Row {
    std::vector<std::string> files;
    std::string settings;
    std::string command;
  };
  const auto row = GENERATE(values<Row>({
      {{"index.php"}, "", ""},
      {{"index.php", ".htaccess"}, "", "uporter serve ~ --fallback index.php"},
      {{"index.php", "composer.json"}, "/p.toml", "uporter site change tides --fallback index.php --settings /p.toml"},
      {{"public/index.php"}, "", "uporter serve ~/public --fallback index.php"},
      {{"web/index.php"},
       "/p.toml",
       "uporter site change tides --folder ~/web --fallback index.php --settings /p.toml"},
  }));
  Place place;
  Site& site = place.settings.sites.front();
  site.name = "tides";
  site.document_root = place.folder.path() + "/project";
  std::filesystem::create_directory(site.document_root);
  for (const std::string& file : row.files) place.folder.write("project/" + file, "x");
  place.settings.file = row.settings;
  place.settings.option = row.settings.empty() ? "" : " --settings " + row.settings;
  const Resolution found = place.look_up("/boats/3");
  std::string command = command_of(std::get<Finding>(found.outcome));
  for (std::size_t at = 0; (at = command.find(site.document_root)) != command.npos;)
    command.replace(at, site.document_root.size(), "~");
  CHECK(command == row.command);
}

TEST_CASE("a site runs the languages and shows the hidden files that it allows") {
  Place place;
  Site& site = place.settings.sites.front();
  site.interpreters = std::vector<std::string>{"Perl"};
  CHECK(place.short_outcome("/notices.php") == "interpreter-not-allowed");
  CHECK(place.short_outcome("/cgi-bin/deep/tides.pl").starts_with("run"));
  CHECK(place.short_outcome("/cgi-bin/fares") == "interpreter-not-allowed");
  site.interpreters = std::vector<std::string>{"Shell"};
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

TEST_CASE("a script folder runs what is in it, whichever of its names leads there") {
  struct Row {
    std::string name;  // What is made of the place, in words.
    std::string path;  // What is asked for.
    std::string outcome;
  };
  Place place;
  Site& site = place.settings.sites.front();
  const std::string base = place.folder.path();
  place.folder.write("pages/programs/tides", "#!/bin/sh\n", 0755);
  place.folder.write("pages/programs/notes", "x");
  place.folder.write("pages/programs/deep/fares", "#!/bin/sh\n", 0755);
  place.folder.write("lib/one", "#!/bin/sh\n", 0755);
  place.folder.write("other/cgi-bin/deep/x", "#!/bin/sh\n", 0755);
  std::filesystem::create_directory(base + "/linked");
  std::filesystem::create_symlink(base + "/pages/programs", base + "/linked/cgi-bin");
  const Site plain = site;
  const auto run = [&](const Row& row) {
    CAPTURE(row.name, row.path);
    CHECK(place.short_outcome(row.path) == row.outcome);
    site = plain;
  };
  run({"a plain folder", "/programs/tides", "file ~/pages/programs/tides"});
  site.document_root = base + "/other/cgi-bin/deep";
  run({"a root below a script folder", "/x", "run  ~/other/cgi-bin/deep/x /x "});
  site.mounts = {{"/deep", base + "/other/cgi-bin/deep"}};
  run({"a mount below a script folder", "/deep/x", "run  ~/other/cgi-bin/deep/x /deep/x "});
  site.document_root = base + "/pages/programs";
  site.written_root = base + "/linked/cgi-bin";
  run({"a root that is written as a script folder", "/tides", "run  ~/pages/programs/tides /tides "});
  site.mounts = {{"/tools", base + "/pages/programs", base + "/linked/cgi-bin"}};
  run({"a mount that is written as one", "/tools/notes", "script-not-executable"});
  site.mounts = {{"/tools", base + "/pages/programs", base + "/linked/cgi-bin"}};
  run({"the same folder by its own path", "/programs/tides", "run  ~/pages/programs/tides /programs/tides "});
  site.mounts = {{"/cgi-bin", base + "/pages/programs"}};
  run({"a mount at such a path, asked for elsewhere", "/programs/notes", "script-not-executable"});
  site.mounts = {{"/one", base + "/pages/programs/tides"}};
  run({"a mounted program, asked for elsewhere", "/programs/tides", "run  ~/pages/programs/tides /programs/tides "});
  std::filesystem::create_directory(base + "/pages/sub2");
  std::filesystem::create_symlink("../programs", base + "/pages/sub2/cgi-bin");
  run({"a link in a folder beside it is not seen", "/programs/tides", "file ~/pages/programs/tides"});
  run({"but by the link itself it runs", "/sub2/cgi-bin/tides",
       "run  ~/pages/sub2/cgi-bin/tides /sub2/cgi-bin/tides "});
  std::filesystem::remove_all(base + "/pages/cgi-bin");
  std::filesystem::create_symlink("programs", base + "/pages/cgi-bin");
  run({"a script folder that is a link", "/programs/tides", "run  ~/pages/programs/tides /programs/tides "});
  run({"below it", "/programs/deep/fares", "run  ~/pages/programs/deep/fares /programs/deep/fares "});
  run({"what cannot run there", "/programs/notes", "script-not-executable"});
  CHECK(std::get<FolderFound>(place.look_up("/programs/").outcome).is_script_folder);
}

TEST_CASE("a mounted file that has become a link is judged by what it leads to") {
  Place place;
  Site& site = place.settings.sites.front();
  const std::string base = place.folder.path();
  place.folder.write("papers/notes.txt", "x");
  place.folder.write("papers/page.php", "<?php");
  place.folder.write("papers/.secret", "x");
  site.mounts = {{"/notes", base + "/papers/notes.txt"}};
  CHECK(place.short_outcome("/notes") == "file ~/papers/notes.txt");
  const auto becomes_link_to = [&](const std::string& target) {
    std::filesystem::remove(base + "/papers/notes.txt");
    std::filesystem::create_symlink(target, base + "/papers/notes.txt");
    return place.short_outcome("/notes");
  };
  CHECK(becomes_link_to("page.php") == "run ~/programs/php-cgi ~/papers/notes.txt /notes ");
  CHECK(becomes_link_to("../outside.txt") == "outside-root");
  CHECK(becomes_link_to("/etc/passwd") == "outside-root");
  CHECK(becomes_link_to("gone") == "document-root-gone");
}

TEST_CASE("links show nothing that is hidden by its own name, and listings do not name it") {
  Place place;
  const std::string root = place.settings.sites.front().document_root;
  place.folder.write("pages/links/index.none", "");
  place.folder.write("pages/links/page.php.save", "<?php");
  for (const auto& [target, name] : {std::pair{"../.secret", "secret.txt"},
                                     {"../.git", "git"},
                                     {"page.php.save", "saved.txt"},
                                     {"../../outside.txt", "leak.txt"},
                                     {"../timetable.html", "fine.html"},
                                     {"../notices.php", "shown.txt"}})
    std::filesystem::create_symlink(target, root + "/links/" + name);
  CHECK(place.short_outcome("/links/secret.txt") == "hidden-file");
  CHECK(place.short_outcome("/links/git/config") == "hidden-file");
  CHECK(place.short_outcome("/links/git/") == "hidden-file");
  CHECK(place.short_outcome("/links/saved.txt") == "backup-file");
  CHECK(place.short_outcome("/links/fine.html") == "file ~/pages/links/fine.html");
  const auto listing = place.look_up("/links/");
  auto entries = std::get<std::vector<sites::Row>>(
      read_entries(place.settings, place.settings.sites.front(), std::get<FolderFound>(listing.outcome)));
  sort_entries(entries, {});
  std::string names;
  for (const sites::Row& entry : entries) names += entry.name + (entry.runs ? "* " : " ");
  CHECK(names == "fine.html index.none shown.txt* ");
}

TEST_CASE("copies that editors leave of what is run or hidden are withheld, and others are not") {
  struct Row {
    std::string name;
    bool withheld;
  };
  const auto row = GENERATE(values<Row>({
      {"#x.php#", true},       {"x.php~", true},         {"x.php.save", true},   {"x.php.save.1", true},
      {"x.php.orig", true},    {"x.PHP.ORIG", true},     {"x.php.BAK", true},    {"x.php.bak2", true},
      {"x.php.old", true},     {"x.php.tmp", true},      {".x.php.swo", true},   {"x.php.~1~", true},
      {"x.php.bak.old", true}, {"tides.pl.old", true},   {"fares.py.rej", true}, {".env.old", true},
      {"#.env#", true},        {"x.php.dpkg-old", true}, {"notes.txt~", true},   {"notes.bak", true},
      {".#x.php.save", true},  {"notes.txt.old", false}, {"old", false},         {"timetable.tmp", false},
      {"app.js.orig", false},  {"x.php.txt", false},     {"#1#", false},         {"save.1", false},
      {"x.html.orig", false},
  }));
  CAPTURE(row.name);
  CHECK(is_withheld_copy(Settings(), Site(), row.name) == row.withheld);
}

TEST_CASE("a listing shows what a visitor may open, folders first, in the order asked for") {
  Place place;
  const auto resolution = place.look_up("/cgi-bin/");
  const auto& found = std::get<FolderFound>(resolution.outcome);
  place.folder.write("pages/cgi-bin/.hidden", "");
  place.folder.write("pages/cgi-bin/old.bak", "");
  auto entries = std::get<std::vector<sites::Row>>(read_entries(place.settings, place.settings.sites.front(), found));
  struct Row {
    std::string query;
    std::string names;
  };
  for (const auto& row :
       {Row{"", "deep/ data.csv fares* "}, Row{"by=size", "deep/ data.csv fares* "},
        Row{"by=size-down", "deep/ fares* data.csv "}, Row{"by=name-down", "deep/ fares* data.csv "}}) {
    CAPTURE(row.query);
    sort_entries(entries, order_from_query(row.query));
    std::string names;
    for (const sites::Row& entry : entries) names += entry.name + (entry.is_folder ? "/" : entry.runs ? "*" : "") + " ";
    CHECK(names == row.names);
  }
}
