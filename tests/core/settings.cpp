#include <algorithm>
#include <catch2/catch.hpp>
#include <fstream>
#include <set>
#include <sstream>

#include "core/settings/edit.hpp"
#include "core/settings/read_settings.hpp"
#include "support/support.hpp"

using namespace porter;
using porter::test::TempFolder;

namespace {

/// A folder with what settings may name: roots a and b, a page, a script, a closed folder.
struct Place {
  TempFolder folder;
  std::string file = folder.path() + "/uporter.toml";

  Place() {
    folder.write("a/index.html", "a");
    folder.write("a/front.php", "<?php");
    folder.write("b/index.html", "b");
    folder.write("tool.pl", "#!/usr/bin/perl", 0755);
  }
  SettingsRead read(const std::string& text) const { return read_settings(text, file, "/home/nobody"); }
};

/// "LINE:COLUMN code" of each problem, separated by blanks.
std::string short_text(const std::vector<SettingsProblem>& problems) {
  std::string out;
  for (const SettingsProblem& problem : problems)
    out += (out.empty() ? "" : " | ") + std::to_string(problem.line) + ":" + std::to_string(problem.column) + " " +
           std::string(code_name(problem.finding.code)).substr(9);
  return out;
}

std::string slurp(const std::string& path) {
  std::ostringstream out;
  out << std::ifstream(path, std::ios::binary).rdbuf();
  return out.str();
}

const std::string kSite = "[site.a]\ndocument-root = \"a\"\n";

/// What settings come to, but for limits and log, as text.
std::string state_of(const Settings& settings) {
  std::string out;
  const auto add = [&out](const std::string& name, const std::vector<std::string>& values) {
    out += name;
    for (const std::string& value : values) out += " " + value;
    out += "\n";
  };
  for (const Listener& listener : settings.listeners())
    out += listener.address.text() + " " + std::to_string(listener.sites.size()) + "\n";
  out += "metrics " + (settings.metrics ? settings.metrics->text() : "") + "\n";
  for (const Site& site : settings.sites) {
    add(site.name, site.hosts);
    add("index", site.index_files);
    add("scripts", site.script_folders);
    add("languages", site.interpreters.value_or(std::vector<std::string>{"all"}));
    add("hidden", site.hidden_files_shown);
    add("linked", site.linked_folders);
    add("forbidden", site.forbidden);
    add("environment", site.environment);
    out += std::to_string(static_cast<int>(site.listing.value_or(site.fallbacks.empty()))) +
           std::to_string(static_cast<int>(site.has_time_limits)) +
           std::to_string(static_cast<int>(site.leaves_running)) + "\n";
  }
  const auto add_languages = [&](const std::vector<script::Interpreter>& languages) {
    for (const script::Interpreter& interpreter : languages) {
      add(interpreter.language + interpreter.endings, interpreter.environment);
      out += std::to_string(static_cast<int>(interpreter.where)) + std::to_string(interpreter.limits.size()) + "\n";
      const script::Persistence& persistence = interpreter.persistence;
      add(interpreter.program + (interpreter.is_persistent() ? " is persistent " : " ") +
              std::to_string(persistence.processes) + " " + std::to_string(persistence.runs_each.value_or(0)) + " " +
              std::to_string(persistence.idle_time.count()),
          persistence.external);
      for (const auto& [name, value] : interpreter.directives) out += script::directive_line(name, value) + "\n";
    }
  };
  add_languages(settings.interpreters);
  for (const Site& site : settings.sites) add_languages(site.own_languages);
  return out;
}

}  // namespace

TEST_CASE("every mistake in the settings is found, with its place") {
  struct Row {
    std::string text;
    std::string problems;
  };
  const auto row = GENERATE(values<Row>({
      // What is fine.
      {"", ""},
      {kSite, ""},
      {"addresses = 8090\n", ""},
      {"addresses = [\"localhost:8080\", \"network:8081\", \"[::1]:8082\", \"127.0.0.1:8083\"]", ""},
      {kSite + "hosts = [\"*\", \"*.a.localhost\", \"A.Localhost\", \"127.0.0.1\"]", ""},
      {kSite + "[site.a.mounts]\n\"/t\" = \"tool.pl\"\n\"/b\" = \"b\"", ""},
      {kSite + "[site.b]\ndocument-root = \"b\"", ""},
      {"[interpreter.Awk]\nendings = \".awk\"\ncommand = [\"awk\", \"-f\"]\nanywhere = true", ""},
      {"[limits]\nbody = \"1 GiB\"\nhead-time = 3", ""},
      {"[log]\naccess = \"access.log\"\nformat = \"json\"", ""},
      {"metrics = \"localhost:8077\"", ""},
      {"metrics = false", ""},
      {"metrics = \"network:8077\"", "1:11 bad-value"},
      {"metrics = 8077", ""},
      {"console = false", ""},
      {"console = 8070", ""},
      {"console = \"[::1]:8070\"", ""},
      {"console = \"network:8070\"", "1:11 bad-value"},
      {"console = \"192.168.7.2:8070\"", "1:11 bad-value"},
      {"console = []", "1:11 wrong-type"},
      {"console = \"localhost\"", "1:11 no-port"},
      // Not TOML.
      {"addresses = ", "1:13 syntax"},
      {"[site.a\n", "1:8 syntax"},
      {"a = 1\na = 2\n", "2:5 syntax"},
      {kSite + kSite, "3:1 syntax"},
      {"x = \"\xff\"", "1:1 not-utf8"},
      {"# fine\n# \xc3\n", "2:1 not-utf8"},
      // Unknown keys, several at once, in their order.
      {"adresses = [8080]", "1:1 unknown-key"},
      {"port = 80\nhost = 1", "1:1 unknown-key | 2:1 unknown-key"},
      {kSite + "listings = true", "3:1 unknown-key"},
      {kSite + "root = \"a\"", "3:1 unknown-key"},
      {"[limits]\nbodies = 3", "2:1 unknown-key"},
      {"[log]\nfile = \"x\"", "2:1 unknown-key"},
      {"[interpreter.Perl]\nprogram = \"perl\"", "2:1 unknown-key"},
      {"[interpreter.Perl.limits]\nqueue = 3", "2:1 unknown-key"},
      // Persistent interpreters.
      {"[interpreter.PHP]\npersistent = false\nprocesses = 2\nruns-each = 5\nidle-time = 9", ""},
      {"[interpreter.PHP]\npersistent = 1\nprocesses = 0\nruns-each = \"a\"\nidle-time = -1",
       "2:14 wrong-type | 3:13 limit-range | 4:13 bad-value | 5:13 limit-range"},
      {"[interpreter.PHP]\nexternal = [\"unix:/run/a.sock\", \"192.0.2.7:9000\", \"[::1]:9000\", \"host:9\"]", ""},
      {"[interpreter.PHP]\nexternal = [\"/run/a.sock\", \"unix:a\", \"host\", \"host:0\", \":9\", \"a b:9\"]",
       "2:13 bad-value | 2:28 bad-value | 2:38 bad-value | 2:46 bad-value | 2:56 bad-value | 2:62 bad-value"},
      {"[interpreter.PHP.settings]\nmemory_limit = \"1G\"\nlog_errors = true\nprecision = 14\n", ""},
      {"[interpreter.PHP.settings]\n\"a b\" = 1\nx = [1]\ny = \"a\\nb\"",
       "2:1 bad-value | 3:6 wrong-type | 4:5 bad-value"},
      {"[interpreter.Perl.settings]\nx = 1", "1:1 bad-value"},
      {kSite + "[site.a.interpreter.PHP]\ncommand = \"php-cgi8.1\"\npersistent = false\nsettings = { precision = 3 }",
       ""},
      {kSite + "[site.a.interpreter.Tide]\npersistent = true", "3:21 interpreter-incomplete"},
      {kSite + "[site.a.interpreter.PHP]\nkeep = true", "4:1 unknown-key"},
      // Values of the wrong kind.
      {"addresses = true", "1:13 wrong-type"},
      {"addresses = [\"localhost:8080\", 1.5]", "1:32 wrong-type"},
      {"site = 3", "1:8 wrong-type"},
      {"[site]\na = 3", "2:5 wrong-type"},
      {"limits = \"many\"", "1:10 wrong-type"},
      {"log = []", "1:7 wrong-type"},
      {"interpreter = 1", "1:15 wrong-type"},
      {kSite + "listing = \"yes\"", "3:11 wrong-type"},
      {kSite + "hosts = 5", "3:9 wrong-type"},
      {kSite + "hosts = [\"x.localhost\", 5]", "3:25 wrong-type"},
      {kSite + "index-files = {}", "3:15 wrong-type"},
      {kSite + "fallback = []", "3:12 wrong-type"},
      {kSite + "environment = \"A=b\"", "3:15 wrong-type"},
      {kSite + "environment = { A = [] }", "3:21 wrong-type"},
      {kSite + "mounts = [\"b\"]", "3:10 wrong-type"},
      {kSite + "mounts = { \"/b\" = 3 }", "3:19 wrong-type"},
      {kSite + "response-headers = { A = 3 }", "3:26 wrong-type"},
      {"[site.a]\ndocument-root = 7", "2:17 wrong-type"},
      {"[limits]\nbody = true", "2:8 wrong-type"},
      {"[interpreter.Perl]\nanywhere = 1", "2:12 wrong-type"},
      {"[log]\nformat = 1", "2:10 wrong-type"},
      // Addresses.
      {"addresses = []", "1:13 bad-value"},
      {"addresses = [\"localhost\"]", "1:14 no-port"},
      {"addresses = [\"[::1]\"]", "1:14 no-port"},
      {"addresses = [\"localhost:70000\"]", "1:14 port-range"},
      {"addresses = [0]", "1:14 port-range"},
      {"addresses = [\"localhost:http\"]", "1:14 port-range"},
      {"addresses = [\"gulls:8080\"]", "1:14 bad-address"},
      {"addresses = [\"::1:8080\"]", "1:14 bad-address"},
      {"addresses = [\"[127.0.0.1]:8080\"]", "1:14 bad-address"},
      {"addresses = [8080, \"localhost:8080\"]", "1:20 bad-value"},
      {kSite + "addresses = [\"network:99999\"]", "3:14 port-range"},
      // Hosts.
      {kSite + "hosts = [\"http://a\"]", "3:10 bad-host"},
      {kSite + "hosts = [\"a.localhost:80\"]", "3:10 bad-host"},
      {kSite + "hosts = [\"a.*.localhost\"]", "3:10 bad-host"},
      {kSite + "hosts = [\"\"]", "3:10 bad-host"},
      {kSite + "hosts = []", "3:9 bad-value"},
      {kSite + "hosts = [\"a.localhost\", \"A.localhost\"]", "3:25 bad-value"},
      {kSite + "[site.b]\ndocument-root = \"b\"\nhosts = [\"a.localhost\"]", "5:9 host-twice"},
      {"[site.A]\ndocument-root = \"a\"\n" + kSite, "3:7 host-twice"},
      {kSite + "addresses = [8081]\n[site.b]\ndocument-root = \"b\"\nhosts = \"a.localhost\"", ""},
      // Sites.
      {"[site.a]\n", "1:7 no-root"},
      {"[site.\"a b\"]\ndocument-root = \"a\"", "1:7 bad-value"},
      {"[site.a]\ndocument-root = \"c\"", "2:17 folder-missing"},
      {"[site.a]\ndocument-root = \"tool.pl\"", "2:17 not-a-folder"},
      {"[site.a]\ndocument-root = \"\"", "2:17 bad-value"},
      {kSite + "index-files = [\"a/b.html\"]", "3:16 bad-value"},
      {kSite + "script-folders = [\"/cgi-bin\"]", "3:19 bad-value"},
      {kSite + "interpreters = [\"Pearl\"]", "3:17 language-unknown"},
      {kSite + "fallback = \"front.php\"", ""},
      {kSite + "fallback = \"gone.php\"", "3:12 file-missing"},
      {kSite + "fallback = \"../tool.pl\"", "3:12 bad-value"},
      {kSite + "[site.a.problem-pages]\n404 = \"gone.html\"", "4:7 file-missing"},
      {kSite + "[site.a.problem-pages]\n200 = \"index.html\"", "4:1 bad-value"},
      {kSite + "[site.a.response-headers]\n\"X Y\" = \"z\"", "4:9 bad-value"},
      {kSite + "[site.a.response-headers]\nContent-Length = \"3\"", "4:18 bad-value"},
      {kSite + "[site.a.response-headers]\nX = \"a\\r\\nY: b\"", "4:5 bad-value"},
      {kSite + "[site.a.environment]\n\"A-B\" = \"c\"", "4:1 bad-value"},
      {kSite + "[site.a.environment]\nA = \"\\u0000\"", "4:5 bad-value"},
      // Mounts.
      {kSite + "[site.a.mounts]\nb = \"b\"", "4:1 bad-value"},
      {kSite + "[site.a.mounts]\n\"/\" = \"b\"", "4:7 bad-value"},
      {kSite + "[site.a.mounts]\n\"/\" = \"tool.pl\"", ""},
      {kSite + "[site.a.fallbacks]\n\"/x\" = \"front.php\"", ""},
      {kSite + "[site.a.fallbacks]\n\"x\" = \"front.php\"", "4:1 bad-value"},
      {kSite + "[site.a.fallbacks]\n\"/x\" = \"gone.php\"", "4:8 file-missing"},
      {kSite + "[site.a.fallbacks]\n\"/x\" = \"../a/front.php\"", "4:8 bad-value"},
      {kSite + "linked-folders = [\"b\"]", ""},
      {kSite + "linked-folders = [\"nowhere\"]", "3:19 folder-missing"},
      {kSite + "[site.a.mounts]\n\"/x/../y\" = \"b\"", "4:1 bad-value"},
      {kSite + "[site.a.mounts]\n\"/x\" = \"nowhere\"", "4:8 folder-missing"},
      {kSite + "[site.a.mounts]\n\"/x\" = \"b\"\n\"/x/y\" = \"b\"", ""},
      {kSite + "[site.a.mounts]\n\"/x\" = \"b\"\n\"/x/\" = \"b\"", "5:1 mounts-overlap"},
      {kSite + "[site.a.mounts]\n\"/x\" = \"b\"\n\"/xy\" = \"b\"", ""},
      // Interpreters and limits.
      {"[interpreter.Pearl]\nendings = \".pearl\"", "1:14 interpreter-incomplete"},
      {"[interpreter.Awk]\nendings = \"awk\"\ncommand = \"awk\"", "2:11 bad-value"},
      {"[interpreter.Awk]\nendings = \".pl\"\ncommand = \"awk\"", "2:11 ending-twice"},
      {"[interpreter.Perl]\ncommand = []", "2:11 bad-value"},
      {"[limits]\nbody = -1", "2:8 limit-range"},
      {"[limits]\nbody = \"64 MB\"", "2:8 bad-value"},
      {"[limits]\nhead-time = 0", "2:13 limit-range"},
      {"[interpreter.Perl.limits]\nprocessor-time = 999999", "2:18 limit-range"},
      {"[log]\naccess = \"no/such/folder/access.log\"", "2:10 folder-missing"},
      {"[log]\nformat = \"xml\"", "2:10 bad-value"},
  }));
  const Place place;
  CAPTURE(row.text);
  const SettingsRead read = place.read(row.text);
  // Missing document roots stand by themselves: the other sites are served.
  CHECK(short_text(read.problems) + short_text(read.standing) == row.problems);
}

TEST_CASE("a mistake is shown with its line, a caret and what to do") {
  const Place place;
  const auto read = place.read("# Gulls\n\taddresses = [\"localhost:99999\"]\n");
  REQUIRE(read.problems.size() == 1);
  CHECK(text_of(read.problems.front()) == place.file +
                                              ":2:15: 99999 is not a port: ports are numbers from 1 to 65535.\n"
                                              "  2 |  addresses = [\"localhost:99999\"]\n"
                                              "    |               ^\n"
                                              "  What to do: Use one above 1023, such as 8080.\n");
  CHECK(text_of(place.read("adresses = 3").problems.front()).find("Did you mean \"addresses\"?") != std::string::npos);
}

TEST_CASE("a settings file that cannot be read is explained") {
  const Place place;
  const std::string large = place.folder.write("large.toml", std::string(10 * 1024 * 1024, '#'));
  CHECK(short_text(load_settings(place.folder.path() + "/a", "").problems) == "0:0 not-a-file");
  CHECK(short_text(load_settings(large, "").problems) == "0:0 too-large");
  CHECK(short_text(load_settings("/dev/null", "").problems) == "0:0 not-a-file");
  const auto none = load_settings(place.folder.path() + "/none.toml", "");
  CHECK(none.problems.empty());
  CHECK(none.settings.addresses.front().text() == "localhost:8080");
  CHECK(none.settings.sites.empty());
}

TEST_CASE("settings say what was written, and the rest is as usual") {
  const Place place;
  const auto read = place.read(
      "addresses = [\"localhost:8080\", \"[::1]:8082\"]\n"
      "[site.a]\nhosts = \"Gulls.localhost\"\ndocument-root = \"a\"\nlisting = false\nfallback = \"/front.php\"\n"
      "environment = { A = \"b\", N = 3 }\nmounts = { \"/old/\" = \"b\", \"/tool\" = \"tool.pl\" }\n"
      "[site.b]\ndocument-root = \"~/b\"\naddresses = 8081\n"
      "[interpreter.perl]\ncommand = [\"perl\", \"-w\"]\n[limits]\nbody = \"2 KiB\"\n");
  CHECK(short_text(read.problems).empty());
  CHECK(short_text(read.standing) == "10:17 folder-missing");
  const Settings& settings = read.settings;
  REQUIRE(settings.sites.size() == 2);
  const Site& a = settings.sites.front();
  CHECK(a.hosts == std::vector<std::string>{"gulls.localhost"});
  CHECK(a.document_root == place.folder.path() + "/a");
  CHECK(a.listing == false);
  REQUIRE(a.fallbacks.size() == 1);
  CHECK(a.fallbacks.front().script == "front.php");
  CHECK(a.environment == std::vector<std::string>{"A=b", "N=3"});
  REQUIRE(a.mounts.size() == 2);
  CHECK(a.mounts.front().path == "/old");
  CHECK(a.mounts.front().target == place.folder.path() + "/b");
  CHECK(a.mounts.back().target == place.folder.path() + "/tool.pl");
  CHECK(settings.sites.back().hosts == std::vector<std::string>{"b.localhost"});
  CHECK(settings.sites.back().document_root == "/home/nobody/b");
  CHECK(settings.limits.body == 2048);
  const auto* const perl = script::interpreter_for(settings.interpreters, "tides.pl");
  REQUIRE(perl != nullptr);
  CHECK(perl->arguments == std::vector<std::string>{"-w"});
  std::string listeners;
  for (const Listener& listener : settings.listeners()) {
    listeners += listener.address.text() + "=";
    for (const std::size_t site : listener.sites) listeners += std::to_string(site);
    listeners += " ";
  }
  CHECK(listeners == "localhost:8080=0 [::1]:8082=0 localhost:8081=1 ");
}

TEST_CASE("the sample settings are fine, and name every key there is") {
  const std::string file = PORTER_DEMO "/uporter.toml";
  const std::string text = slurp(file);
  CHECK(short_text(load_settings(file, "").problems).empty());
  std::string table;
  std::set<std::string> named;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    if (line.starts_with('[')) table = line.substr(1, line.find(']') - 1);
    const std::string bare = line.starts_with("# ") ? line.substr(2) : line.starts_with("#~ ") ? line.substr(3) : line;
    const std::size_t end = bare.find_first_not_of("abcdefghijklmnopqrstuvwxyz-");
    if (end != std::string::npos && bare.substr(end).starts_with(" = "))
      named.insert(table + "." + bare.substr(0, end));
    named.insert(table);
    named.insert("." + table);
    if (bare.starts_with('[')) named.insert("." + bare.substr(1, bare.find(']') - 1));
    if (bare.starts_with('[')) named.insert(bare.substr(1, bare.find(']') - 1));
    // A table of tables, "interpreter" of a site, is named by each of these.
    if (bare.starts_with("[site.")) named.insert(bare.substr(1, bare.rfind('.') - 1));
  }
  for (const std::string& key : settings_keys()) {
    const std::size_t dot = key.rfind('.');
    const std::string last = key.substr(dot + 1);
    const std::string first = key.substr(0, key.find('.'));
    const bool found = std::any_of(named.begin(), named.end(), [&](const std::string& name) {
      return name.ends_with("." + last) && (key.find('.') == std::string::npos || name.starts_with(first));
    });
    CAPTURE(key);
    CHECK(found);
  }
}

TEST_CASE("in the sample, a value behind a comment is the one that holds without it, and an example is marked as one") {
  const std::string file = PORTER_DEMO "/uporter.toml";
  const std::string text = slurp(file);
  const SettingsRead usual = read_settings(text, file, "/home/tern");
  REQUIRE(usual.problems.empty());
  std::size_t tried = 0;
  for (std::size_t at = 0; at < text.size(); at = text.find('\n', at) + 1) {
    const std::string line = text.substr(at, text.find('\n', at) - at);
    const bool is_example = line.starts_with("#~ ");
    const std::string bare = line.substr(std::min<std::size_t>(is_example ? 3 : 2, line.size()));
    const std::size_t end = bare.find_first_not_of("abcdefghijklmnopqrstuvwxyz-");
    if (!line.starts_with('#') || end == 0 || end == bare.npos || !bare.substr(end).starts_with(" = ")) continue;
    CAPTURE(line);
    ++tried;
    std::string with = text;
    with.replace(at, line.size(), bare);
    const SettingsRead read = read_settings(with, file, "/home/tern");
    CHECK(is_example == (short_text(read.problems) != "" || !(state_of(read.settings) == state_of(usual.settings)) ||
                         !(read.settings.limits == usual.settings.limits) ||
                         !(read.settings.access_log == usual.settings.access_log)));
  }
  CHECK(tried > 25);
}

TEST_CASE("adding and removing changes no line but its own") {
  const Place place;
  const std::string path = place.folder.path();
  const std::string text = slurp(PORTER_DEMO "/uporter.toml");
  SettingsEdit site{SettingsEdit::Kind::add_site, "tides", path + "/a", "", {"tides.localhost", "t.localhost"}, 8090};
  SettingsEdit mount{SettingsEdit::Kind::add_mount, "archive", path + "/b", "/old \"papers\"", {}, {}};
  SettingsEdit first_mount{SettingsEdit::Kind::add_mount, "office", path + "/b", "/b", {}, {}};
  const auto edited = [](const std::string& before, const SettingsEdit& edit) {
    auto after = edit_text(before, edit);
    if (const auto* const finding = std::get_if<Finding>(&after)) return "refused: " + sentence_of(*finding);
    return std::get<std::string>(after);
  };
  const std::string with_site = edited(text, site);
  CHECK(with_site == text + "\n[site.tides]\ndocument-root = \"" + path +
                         "/a\"\nhosts = [\"tides.localhost\", \"t.localhost\"]\naddresses = [\"localhost:8090\"]\n");
  const std::string with_mount = edited(with_site, mount);
  CHECK(with_mount.size() == with_site.size() + ("\"/old \\\"papers\\\"\" = \"" + path + "/b\"\n").size());
  const std::string with_both = edited(with_mount, first_mount);
  CHECK(with_both.find("[site.office.mounts]\n\"/b\" = ") != std::string::npos);
  site.kind = SettingsEdit::Kind::remove_site;
  mount.kind = first_mount.kind = SettingsEdit::Kind::remove_mount;
  CHECK(edited(edited(edited(with_both, first_mount), site), mount) == text);

  CHECK(edited(text, site) == "refused: There is no site \"tides\".");
  CHECK(edited(text, mount).starts_with("refused: The site \"archive\" has no mount"));
  SettingsEdit twice{SettingsEdit::Kind::add_site, "office", path, "", {}, {}};
  CHECK(edited(text, twice) == "refused: There is a site \"office\" already.");
  // A site that is removed takes its tables with it, and leaves the comments of its neighbours.
  twice.kind = SettingsEdit::Kind::remove_site;
  twice.site = "archive";
  const std::string without = edited(text, twice);
  CHECK(without.find("records") == std::string::npos);
  CHECK(without.find("lost.html") == std::string::npos);
  CHECK(without.find("# What is known of a language can be changed") != std::string::npos);
  CHECK(without.find("fallback = \"index.php\"") != std::string::npos);
  // Lines may end as they do on other systems, and the last one may have no end.
  CHECK(edited("a = 1\r\n# end", {SettingsEdit::Kind::add_site, "x y", "/r", "", {}, {}}) ==
        "a = 1\r\n# end\r\n\r\n[site.\"x y\"]\r\ndocument-root = \"/r\"\r\n");
}

TEST_CASE("changing a site changes the lines of what is named, with their comments") {
  const std::string text =
      "[site.a]  # first\n  document-root = \"/été\"  # été\nhosts = [\n  \"a.localhost\",\n]\n\n[site.a.mounts]\n"
      "\"/b\" = \"/b\"\n\n[site.b]\ndocument-root = \"/b\"\n";
  struct Row {
    const char* name;
    SettingsEdit edit;
    std::string before;  ///< Of `text`, a part,
    std::string after;   ///< and what stands in its place.
  };
  const auto change = [](const std::string& site) {
    SettingsEdit edit;
    edit.kind = SettingsEdit::Kind::change_site;
    edit.site = site;
    return edit;
  };
  std::vector<Row> rows(5, {"", change("a"), "", ""});
  rows[0] = {"folder", change("a"), "\"/été\"  #", "\"/new\"  #"};
  rows[0].edit.folder = "/new";
  rows[1] = {"hosts", change("a"), "hosts = [\n  \"a.localhost\",\n]", "hosts = [\"x\"]"};
  rows[1].edit.hosts = {"x"};
  rows[2] = {"root", change("a"), "hosts = [\n  \"a.localhost\",\n]", "hosts = [\"a.localhost\", \"localhost\"]"};
  rows[2].edit.root_of = "localhost";
  rows[3] = {"new keys", change("a"), ",\n]\n", ",\n]\naddresses = [\"localhost:8090\"]\nfallback = \"index.php\"\n"};
  rows[3].edit.port = 8090;
  rows[3].edit.fallback = "index.php";
  rows[4] = {"root of another", change("b"), "document-root = \"/b\"\n",
             "document-root = \"/b\"\nhosts = [\"b.localhost\", \"localhost\"]\n"};
  rows[4].edit.root_of = "localhost";
  for (const Row& row : rows) {
    CAPTURE(row.name);
    std::string wanted = text;
    wanted.replace(wanted.find(row.before), row.before.size(), row.after);
    CHECK(std::get<std::string>(edit_text(text, row.edit)) == wanted);
  }
  SettingsEdit away = change("a");
  away.fallback = "";
  const std::string with = std::get<std::string>(edit_text(text, rows[3].edit));
  CHECK(std::get<std::string>(edit_text(with, away)).find("fallback") == std::string::npos);
  CHECK(std::holds_alternative<Finding>(edit_text(text, change("none"))));
}

TEST_CASE("settings that nest without bound are refused where they do, and those that only look so are not") {
  const auto problem = [](const std::string& text) {
    const SettingsRead read = read_settings(text, "/w/uporter.toml", "/home/tern");
    if (read.problems.empty()) return std::string("fine");
    const SettingsProblem& first = read.problems.front();
    return std::string(code_name(first.finding.code)) + " " + std::to_string(first.line);
  };
  const auto repeated = [](const std::string& part, int count) {
    std::string out;
    for (int i = 0; i < count; ++i) out += part;
    return out;
  };
  CHECK(problem("\n" + repeated("a.", 31000) + "a = 1\n") == "settings-too-deep 2");
  CHECK(problem("[" + repeated("a.", 31000) + "a]\n") == "settings-too-deep 1");
  CHECK(problem("x = " + repeated("[", 100000)) == "settings-too-deep 1");
  CHECK(problem("x = " + repeated("{a=", 100000)) == "settings-too-deep 1");
  CHECK(problem("x = " + repeated("{ a . \"b\" . c = ", 20000)) == "settings-too-deep 1");
  CHECK(problem("# " + repeated("[", 1000) + "\n") == "fine");
  CHECK(problem("# " + repeated("a.", 1000) + "\n[limits]\nhead = 4096 # " + repeated("{", 99) + "\n") == "fine");
  CHECK(problem("x = \"" + repeated("[", 1000) + "\"\n") == "settings-unknown-key 1");
  CHECK(problem("x = '''\n" + repeated("a.b\n", 1000) + "'''\n") == "settings-unknown-key 1");
  CHECK(problem("x = [" + repeated("1.5, ", 1000) + "]\n") == "settings-unknown-key 1");
  CHECK(problem("x = \"\\\"" + repeated("[", 1000) + "\"\n") == "settings-unknown-key 1");
}

TEST_CASE("numbers that do not fit are refused, however large they are written") {
  for (const std::string value :
       {"\"17179869185 GiB\"", "\"999999999999 GiB\"", "\"18014398509481985 KiB\"", "-1", "0x7fffffffffffffff",
        "9223372036854775807", "1.5", "\"1.5 MiB\"", "\"-1 B\"", "\" \"", "\"1099511627777 B\""}) {
    CAPTURE(value);
    const SettingsRead read = read_settings("[limits]\nbody = " + value + "\n", "/w/uporter.toml", "/home/tern");
    REQUIRE(read.problems.size() == 1);
    const Code code = read.problems.front().finding.code;
    CHECK(
        (code == Code::settings_limit_range || code == Code::settings_wrong_type || code == Code::settings_bad_value));
  }
}
