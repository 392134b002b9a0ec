// What other settings change of what is served, in words.
#include "core/sites/changes.hpp"

#include <catch2/catch.hpp>

#include "core/settings/read_settings.hpp"

using namespace porter;

namespace {

Settings settings_of(const std::string& text) { return read_settings(text, "/tmp/uporter.toml", "/tmp").settings; }

}  // namespace

TEST_CASE("each kind of change has its sentence") {
  const std::string site = "[site.fares]\ndocument-root = \"/tmp\"\n";
  struct Row {
    std::string before;
    std::string after;
    std::vector<std::string> told;
  };
  for (const Row& row : std::vector<Row>{
           {site, site, {}},
           {site, "# a remark\n" + site, {}},
           {"addresses = 8080\n",
            "addresses = [8080, \"network:8090\"]\n",
            {"Address network:8090 is opened; other computers will be able to reach it."}},
           {"addresses = [8080, 8090]\n", "addresses = 8080\n", {"Address localhost:8090 is closed."}},
           {"", "console = \"localhost:8078\"\n", {"The console moves to localhost:8078."}},
           {"", "console = false\n", {"The console is switched off, and this page ends."}},
           {"", site, {"Site fares is added, at http://fares.localhost:8080/, and shows /tmp."}},
           {site, "", {"Site fares is removed; its folder /tmp stays as it is."}},
           {site, "[site.fares]\ndocument-root = \"/usr\"\n", {"Site fares shows /usr in place of /tmp."}},
           {site,
            site + "listing = false\ntime-limits = false\n",
            {"Of site fares this changes: whether folders are listed, how long its scripts may take."}},
           {site,
            site + "forbidden = [\"data/\"]\nleave-running = true\n",
            {"Of site fares this changes: whether what its scripts leave running lives on, what is forbidden."}},
           {site, site + "[site.fares.mounts]\n\"/usr\" = \"/usr\"\n", {"Of site fares this changes: its mounts."}},
           {"", "[interpreter.Perl]\ncommand = [\"perl\", \"-w\"]\n", {"How Perl is run changes."}},
           {"[interpreter.Tide]\nendings = [\".tide\"]\ncommand = \"tide\"\n",
            "",
            {"The language Tide is taken away."}},
           {"", "[limits]\nbody = \"1 MiB\"\nfirst-byte = 5\n", {"body: 64 MiB → 1 MiB", "first-byte: 30 → 5"}},
           {"", "[exchanges]\nkeep = false\n", {"What is kept of exchanges changes."}}}) {
    CAPTURE(row.after);
    CHECK(changes_between(settings_of(row.before), settings_of(row.after)) == row.told);
  }
}
