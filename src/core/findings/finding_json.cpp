// Putting findings into JSON. See finding_json.hpp.
#include "core/findings/finding_json.hpp"

#include "core/text/json.hpp"
#include "core/text/text.hpp"

namespace porter {
namespace {

template <typename Item>
nlohmann::json array_of(const std::vector<Item>& items) {
  auto out = nlohmann::json::array();
  for (const Item& item : items) out.push_back(json_of(item));
  return out;
}

}  // namespace

nlohmann::json json_of(const Finding& finding) { return json_of(SettingsProblem{finding, {}, 0, 0, {}}); }

nlohmann::json json_of(const SettingsProblem& problem) {
  nlohmann::json out = {{"code", code_name(problem.finding.code)},
                        {"sentence", text::to_utf8(sentence_of(problem.finding))},
                        {"remedy", text::to_utf8(remedy_of(problem.finding))},
                        {"text", text::to_utf8(text_of(problem))}};
  if (const std::string command = command_of(problem.finding); !command.empty())
    out["command"] = text::to_utf8(command);
  if (const auto site = problem.finding.fact("site")) out["site"] = text::to_utf8(*site);
  if (!problem.file.empty()) out["file"] = text::to_utf8(problem.file);
  if (problem.line > 0) {
    out["line"] = problem.line;
    out["column"] = problem.column;
  }
  // The place in a script, where the finding is about one.
  const auto place = problem.finding.fact("place");
  const std::string line(problem.finding.fact("line").value_or(""));
  if (place && problem.file.empty() && !line.empty() && line.size() < 9 &&
      line.find_first_not_of("0123456789") == line.npos) {
    out["file"] = text::to_utf8(*place);
    out["line"] = std::stoul(line);
  }
  return out;
}

nlohmann::json json_of(const std::vector<Finding>& findings) { return array_of(findings); }
nlohmann::json json_of(const std::vector<SettingsProblem>& problems) { return array_of(problems); }

}  // namespace porter
