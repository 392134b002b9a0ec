#include <catch2/catch.hpp>
#include <set>

#include "core/findings/finding.hpp"

using namespace porter;

TEST_CASE("every finding has a name of its own, a status, a title, a sentence and a remedy") {
  std::set<std::string_view> names;
  for (const Code code : all_codes()) {
    CAPTURE(code_name(code));
    CHECK(names.insert(code_name(code)).second);
    const bool is_remark =
        code == Code::source_sent_as_text || code == Code::short_tags_off || code == Code::rules_not_read;
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
