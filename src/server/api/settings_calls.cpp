// Calls about the settings as a text, and about the languages that they bring.
#include <algorithm>

#include "core/files/content.hpp"
#include "core/findings/finding_json.hpp"
#include "core/http/head.hpp"
#include "core/sites/changes.hpp"
#include "core/text/text.hpp"
#include "machine/instance.hpp"
#include "machine/language_facts.hpp"
#include "machine/settings_edit.hpp"
#include "server/api/api.hpp"

namespace porter::server {

asio::awaitable<Reply> Api::settings_text(const Call& call) {
  if (steering_ == nullptr) co_return refused(no_settings());
  auto reading = look(call, [file = instance_.settings] {
    const auto text = files::content_of(file);
    return json_text({{"file", text::to_utf8(file)},
                      {"exists", text.has_value()},
                      {"version", machine::version_of(text)},
                      {"text", text.value_or("")}});
  });
  auto told = co_await std::move(reading);
  if (!told) co_return refused(no_response("The settings " + instance_.settings));
  Reply reply;
  reply.text = std::move(*told);
  co_return reply;
}

asio::awaitable<Reply> Api::check_settings(const Call& call) {
  if (steering_ == nullptr) co_return refused(no_settings());
  const Json body = call.object();
  if (!body.contains("text")) co_return bad_call(422, "The text of the settings is missing");
  const std::string text = text_in(body, "text");
  const auto snapshot = server_.shared_snapshot();
  auto checking = look(call, [text, snapshot, file = instance_.settings] {
    const SettingsRead read = read_settings(text, file, machine::home_folder());
    Json changes = Json::array();
    if (read.problems.empty())
      for (const std::string& change : changes_between(snapshot->settings, read.settings))
        changes.push_back(text::to_utf8(change));
    auto findings = read.problems;
    findings.insert(findings.end(), read.standing.begin(), read.standing.end());
    return json_text({{"valid", read.problems.empty()}, {"findings", porter::json_of(findings)}, {"changes", changes}});
  });
  auto told = co_await std::move(checking);
  if (!told) co_return refused(no_response("A folder of these settings"));
  Reply reply;
  reply.text = std::move(*told);
  co_return reply;
}

asio::awaitable<Reply> Api::write_settings(const Call& call) {
  if (steering_ == nullptr) co_return refused(no_settings());
  const Json body = call.object();
  if (!body.contains("text") || text_in(body, "version").empty())
    co_return bad_call(422, "The text of the settings, or the version that it was made from, is missing");
  const std::string text = text_in(body, "text");
  auto writing = steering_->write(text_in(body, "version"), text);
  const auto findings = co_await std::move(writing);
  if (!findings.empty()) co_return refused(findings);
  Reply reply;
  reply.body = {{"findings", Json::array()}, {"version", machine::version_of(text)}};
  co_return reply;
}

asio::awaitable<Reply> Api::languages(const Call&) {
  Json all = Json::array();
  for (const machine::FoundInterpreter& found : *server_.interpreters()) all.push_back(machine::json_of(found));
  Reply reply;
  reply.body = {{"languages", std::move(all)}};
  co_return reply;
}

asio::awaitable<Reply> Api::language(const Call& call) {
  std::string name = call.rest_of_path("/v1/languages/");
  constexpr std::string_view kPage = "/page";
  const bool wants_page = name.ends_with(kPage);
  if (wants_page) name.resize(name.size() - kPage.size());
  // Held for as long as the interpreter is asked: settings may be applied meanwhile, and make another list.
  const auto all = server_.interpreters();
  const auto found = std::find_if(all->begin(), all->end(), [&](const machine::FoundInterpreter& one) {
    return http::same_name(one.interpreter.language, name);
  });
  if (found == all->end() || found->path.empty()) co_return bad_call(404, "There is no such language on this computer");
  if (wants_page && found->interpreter.language != "PHP")
    co_return bad_call(404, "This language makes no page about itself");
  const machine::FoundInterpreter& one = *found;
  Reply reply;
  if (wants_page) {
    auto asking = machine::information_page(probes_, one, server_.shared().search_path);
    reply.bytes = co_await std::move(asking);
    reply.type = "text/html";
    co_return reply;
  }
  auto asking = machine::facts_of(probes_, one, server_.shared().search_path);
  reply.body = co_await std::move(asking);
  reply.body.update(machine::json_of(one));
  co_return reply;
}

}  // namespace porter::server
