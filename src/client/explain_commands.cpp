// Printing explanations and checks.
#include "client/explain_commands.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <array>
#include <climits>
#include <cstdio>

#include "client/control_client.hpp"
#include "client/output.hpp"
#include "core/findings/finding_json.hpp"
#include "core/text/text.hpp"
#include "machine/doctor.hpp"
#include "machine/explain.hpp"

namespace porter::client {
namespace {

using Json = nlohmann::json;

void print_explanation(const Json& explanation) {
  const bool served = explanation["served"].get<bool>();
  if (served) {
    fmt::print("{}Served{}      {}\n", paint().good, paint().plain, shown(explanation["outcome"]));
  } else {
    fmt::print("{}Not served{}  {}\n", paint().bad, paint().plain, shown(explanation["what"]));
  }
  for (const Json& url : explanation["urls"])
    fmt::print("URL         {}{}{}\n", paint().bold, url.get<std::string>(), paint().plain);
  if (!served && !explanation["outcome"].get<std::string>().empty())
    fmt::print("Would be    {}\n", shown(explanation["outcome"]));
  fmt::print("\n");
  for (const Json& finding : explanation["findings"])
    fmt::print("{}{}{}\n  {}\n  What to do: {}\n\n", paint().warn, finding["code"].get<std::string>(), paint().plain,
               shown(finding["sentence"]), shown(finding["remedy"]));
  int number = 0;
  for (const Json& step : explanation["trail"]) fmt::print("{:>2}. {}\n", ++number, shown(step));
}

machine::Standing standing_of(const machine::Instance& instance) {
  const auto process = machine::lock_holder(instance);
  return {process.has_value(), process.value_or(0), machine::settings_option(instance.settings)};
}

}  // namespace

int run_explain(const std::string& settings, const std::string& what, Form form) {
  const machine::Instance instance = machine::find_instance(settings);
  std::array<char, PATH_MAX> folder{};
  const std::string here = ::getcwd(folder.data(), folder.size()) != nullptr ? folder.data() : "/";
  Json explanation;
  if (machine::lock_holder(instance)) {
    const Reply reply =
        ask(instance, "POST", "/v1/explain", {{"what", text::to_utf8(what)}, {"folder", text::to_utf8(here)}});
    if (reply.status == 200) explanation = reply.body;
  }
  if (explanation.is_null()) {
    SettingsRead read = machine::read_settings_file(instance.settings);
    if (!read.problems.empty()) return fail(read.problems);
    explanation = Json::parse(json_of(machine::explain(read.settings, standing_of(instance), what, here)));
  }
  form == Form::json ? fmt::print("{}\n", explanation.dump(2)) : print_explanation(explanation);
  return explanation["served"].get<bool>() ? kFine : kFailed;
}

int run_doctor(const std::string& settings, Form form) {
  const machine::Instance instance = machine::find_instance(settings);
  const auto checks = machine::examine(instance, standing_of(instance));
  std::size_t problems = 0;
  Json out = Json::array();
  for (const machine::Check& check : checks) {
    problems += check.problems.size();
    out.push_back({{"what", text::to_utf8(check.what)},
                   {"state", text::to_utf8(check.state)},
                   {"problems", json_of(check.problems)}});
    if (form == Form::json) continue;
    const bool fine = check.problems.empty();
    fmt::print("{}{}{}  {}: {}\n", fine ? paint().good : paint().bad, fine ? "✓" : "✗", paint().plain,
               text::escape_line(check.what), text::escape_line(check.state));
    for (const SettingsProblem& problem : check.problems) {
      if (problem.line > 0) {
        fmt::print("{}", text_of(problem));
      } else {
        fmt::print("   {}\n   What to do: {}\n", text::escape_line(sentence_of(problem.finding)),
                   text::escape_line(remedy_of(problem.finding)));
      }
    }
  }
  if (form == Form::json) {
    fmt::print("{}\n", out.dump(2));
  } else {
    fmt::print("\n{}\n", problems == 0 ? "Nothing is wrong."
                                       : fmt::format("{} {}.", problems, problems == 1 ? "problem" : "problems"));
  }
  return problems == 0 ? kFine : kFailed;
}

}  // namespace porter::client
