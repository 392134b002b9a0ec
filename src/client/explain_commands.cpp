// Printing explanations and checks.
#include "client/explain_commands.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <cstdio>
#include <optional>
#include <string_view>
#include <variant>

#include "client/control_client.hpp"
#include "client/output.hpp"
#include "core/findings/finding_json.hpp"
#include "core/http/host.hpp"
#include "core/text/text.hpp"
#include "machine/doctor.hpp"
#include "machine/environment.hpp"
#include "machine/explain.hpp"
#include "run/warden.hpp"

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
    fmt::print("Once started  {}\n", shown(explanation["outcome"]));
  fmt::print("\n");
  for (const Json& finding : explanation["findings"])
    print_wrapped(fmt::format("{}{}{}\n  {}\n  What to do: {}\n\n", paint().warn, finding["code"].get<std::string>(),
                              paint().plain, shown(finding["sentence"]),
                              text::escape_lines(finding["remedy"].get<std::string>(), "    ")),
                  4);
  int number = 0;
  for (const Json& step : explanation["trail"]) print_wrapped(fmt::format("{:>2}. {}\n", ++number, shown(step)), 4);
}

machine::Standing standing_of(const machine::Instance& instance) {
  const auto process = machine::lock_holder(instance);
  return {process.has_value(), process.value_or(0), instance.option()};
}

/// The path that `what` names, if it is that of a file or folder here.
std::optional<std::string> path_named(const std::string& what) {
  const std::string path = what.starts_with('/') ? what : current_folder() + "/" + what;
  if (::access(path.c_str(), F_OK) != 0) return std::nullopt;
  return machine::without_links(path);
}

/// The port that a browser goes to for `what`; nullopt: it is no URL.
std::optional<int> port_in(const std::string& what) {
  constexpr std::string_view kScheme = "http://";
  const std::string_view rest = std::string_view(what).substr(what.starts_with(kScheme) ? kScheme.size() : 0);
  const auto host = http::parse_host(rest.substr(0, rest.find_first_of("/?#")));
  if (!host || (!host->port && !what.starts_with(kScheme))) return std::nullopt;
  return host->port.value_or(80);
}

/// The server that is to explain `what`: for a URL the one that has its port, unless another one is named.
std::variant<machine::Instance, Finding> find_explainer(const ServerChoice& meant, const std::string& what) {
  const auto path = path_named(what);
  if (path) return find_server(meant, *path);
  const auto port = port_in(what);
  if (!port || meant.port > 0 || !meant.settings.empty()) return find_server(meant);
  ServerChoice of_port = meant;
  of_port.port = *port;
  auto found = find_server(of_port);
  return std::holds_alternative<Finding>(found) ? find_server(meant) : found;
}

/// What a server for a folder goes by, as it tells it itself.
SettingsRead settings_in(const Json& status) {
  SettingsRead read;
  Settings& settings = read.settings;
  settings.addresses.clear();
  for (const Json& address : status["addresses"]) {
    AddressError error{};
    if (const auto parsed = parse_address(address["address"].get<std::string>(), error))
      settings.addresses.push_back(*parsed);
  }
  for (const Json& told : status["sites"]) {
    Site& site = settings.sites.emplace_back();
    site.name = told["name"];
    site.document_root = site.written_root = told["folder"];
    site.hosts = told["hosts"];
  }
  return read;
}

}  // namespace

int run_explain(const ServerChoice& meant, const std::string& what) {
  const auto found = found_or_told(find_explainer(meant, what));
  if (!found) return kFailed;
  const machine::Instance& instance = *found;
  const std::string here = current_folder();
  Json explanation;
  if (machine::lock_holder(instance)) {
    const Reply reply =
        ask(instance, "POST", "/v1/explain", {{"what", text::to_utf8(what)}, {"folder", text::to_utf8(here)}});
    if (reply.status == 200) explanation = reply.body;
  }
  if (explanation.is_null()) {
    SettingsRead read = machine::read_settings_file(instance.settings);
    if (!read.problems.empty()) return fail(read.problems);
    const std::string search_path = machine::search_path();
    explanation =
        parse_json(json_of(machine::explain({read.settings, search_path}, standing_of(instance), what, here)));
  }
  is_json_wanted() ? print_json(explanation) : print_explanation(explanation);
  return explanation["served"].get<bool>() ? kFine : kFailed;
}

int run_doctor(const ServerChoice& meant, Depth depth) {
  const auto found = found_or_told(find_server(meant));
  if (!found) return kFailed;
  const machine::Instance& instance = *found;
  SettingsRead read;
  if (instance.settings.empty()) {
    const Reply reply = ask(instance, "GET", "/v1/status");
    if (reply.status != 200) return fail("The server does not answer.");
    read = settings_in(reply.body);
  } else {
    read = machine::read_settings_file(instance.settings);
  }
  const std::string search_path = machine::search_path();
  const Settings settings = read.settings;
  const bool has_mistakes = !read.problems.empty();
  auto checks = machine::examine(instance, std::move(read), search_path, standing_of(instance));
  if (depth == Depth::with_syntax) {
    const run::ScopedKin kin;
    for (machine::Check& check : machine::examine_deeply(settings, search_path)) checks.push_back(std::move(check));
  }
  std::size_t count = 0;
  Json out = Json::array();
  for (const machine::Check& check : checks) {
    const auto is_wrong = [](const SettingsProblem& problem) { return !machine::is_note(problem.finding); };
    const auto wrong = static_cast<std::size_t>(std::count_if(check.findings.begin(), check.findings.end(), is_wrong));
    count += wrong;
    out.push_back({{"what", text::to_utf8(check.what)},
                   {"state", text::to_utf8(check.state)},
                   {"findings", json_of(check.findings)}});
    if (is_json_wanted()) continue;
    const bool fine = wrong == 0;
    print_wrapped(fmt::format("{}{}{}  {}: {}\n", fine ? paint().good : paint().bad, fine ? "✓" : "✗", paint().plain,
                              text::escape_line(check.what), text::escape_line(check.state)),
                  3);
    for (const SettingsProblem& finding : check.findings) {
      if (finding.line > 0) {
        fmt::print("{}", text_of(finding));
      } else {
        print_wrapped("   " + text::escape_line(sentence_of(finding.finding)) +
                          "\n   What to do: " + text::escape_lines(remedy_of(finding.finding), "    ") + "\n",
                      5);
      }
    }
  }
  if (is_json_wanted()) {
    print_json({{"checks", std::move(out)}});
  } else {
    fmt::print("\n{}\n",
               count == 0 ? "Nothing is wrong." : fmt::format("{} {}.", count, count == 1 ? "finding" : "findings"));
  }
  if (has_mistakes) return kBadUse;
  return count == 0 ? kFine : kFailed;
}

}  // namespace porter::client
