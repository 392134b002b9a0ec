#include <catch2/catch.hpp>
#include <set>

#include "core/findings/finding.hpp"
#include "core/settings/read_settings.hpp"
#include "support/support.hpp"

using namespace porter;
using porter::test::TempFolder;

TEST_CASE("every finding has a name of its own, a status, a title, a sentence and a remedy") {
  std::set<std::string_view> names;
  for (const Code code : all_codes()) {
    CAPTURE(code_name(code));
    CHECK(names.insert(code_name(code)).second);
    const std::set<Code> remarks = {Code::source_sent_as_text, Code::short_tags_off,       Code::rules_not_read,
                                    Code::address_unused,      Code::mail_program_missing, Code::left_running,
                                    Code::persistent_ignored,  Code::php_post_too_large,   Code::rules_forbid,
                                    Code::localhost_unknown};
    const bool is_remark = remarks.contains(code);
    CHECK((is_remark ? status_of(code) == 200 : status_of(code) >= 400));
    CHECK(status_of(code) <= 599);
    CHECK_FALSE(title_of(code).empty());
    CHECK_FALSE(sentence_of({code, {}}).empty());
    CHECK_FALSE(remedy_of({code, {}}).empty());
  }
}

TEST_CASE("facts are filled in, and a part with a missing fact is left out") {
  Finding finding{Code::path_not_found,
                  {{"target", "/indx.html"}, {"file", "/w/indx.html"}, {"missing", "indx.html"}, {"folder", "/w"}}};
  CHECK(sentence_of(finding) ==
        "/indx.html leads to /w/indx.html, which does not exist: there is no \"indx.html\" in /w.");
  CHECK(remedy_of(finding) == "Check the spelling, upper and lower case included, or put the file there.");
  finding.facts.emplace_back("nearest_url", "/index.html");
  CHECK(remedy_of(finding).starts_with("Did you mean /index.html ? Check"));
}

TEST_CASE("facts are not read as patterns") {
  const Finding finding{Code::method_unknown, {{"method", "{method}[x]"}}};
  CHECK(sentence_of(finding) == "This server does not know the method {method}[x].");
}

TEST_CASE("a remedy that is lines of settings can be pasted into settings as it is") {
  // Their values, where the remedy depends on the case.
  TempFolder folder;
  const std::string program = folder.write("app.fcgi", "#!/usr/bin/perl\n", 0755);
  const std::vector<Fact> facts = {{"file", program},
                                   {"patterns", "\"data/\", \"*.inc\""},
                                   {"line", "[limits]\nruns = 8"},
                                   {"fresh_setting", "[interpreter.Tide]\npersistent = false"},
                                   {"queue", "2048"},
                                   {"table", "limits"},
                                   {"key", "runs"},
                                   {"example", "8"},
                                   {"language", "Tide"},
                                   {"ending", ".html"},
                                   {"site", "gulls"},
                                   {"port", "8080"},
                                   {"with_language", "\"PHP\", \"Tide\""}};
  folder.write("FOLDER/index.html", "Kittiwake");
  std::size_t pasted = 0;
  for (const Code code : all_codes()) {
    const std::string lines = command_of({code, facts});
    if (!lines.starts_with("[") || lines.find("]\n") == lines.npos) continue;
    CAPTURE(code_name(code), lines);
    ++pasted;
    const std::string table = lines.substr(0, lines.find('\n') + 1);
    std::string text = "[interpreter.Tide]\nendings = [\".tide\"]\ncommand = \"tide\"\n[site.gulls]\n";
    if (lines.find("document-root") == lines.npos) text += "document-root = \"FOLDER\"\n";
    // Where the table is there already, its lines go there.
    const std::size_t there = text.find(table);
    if (code == Code::settings_interpreter_incomplete) {
      text = lines + "\n[site.gulls]\ndocument-root = \"FOLDER\"\n";
    } else if (there == text.npos) {
      text += lines + "\n";
    } else {
      text.insert(there + table.size(), lines.substr(table.size()) + "\n");
    }
    std::string told;
    for (const SettingsProblem& problem : read_settings(text, folder.path() + "/uporter.toml", folder.path()).problems)
      told += text_of(problem);
    CHECK(told == "");
  }
  CHECK(pasted > 12);
}
