// See call.hpp.
#include "server/api/call.hpp"

#include <algorithm>
#include <charconv>

#include "core/findings/finding_json.hpp"
#include "core/http/head.hpp"
#include "core/http/target.hpp"

namespace porter::server {

std::optional<std::string> Call::parameter(std::string_view name) const {
  for (std::string_view rest = query; !rest.empty();) {
    const std::string_view pair = rest.substr(0, rest.find('&'));
    rest.remove_prefix(std::min(pair.size() + 1, rest.size()));
    const std::size_t equals = std::min(pair.find('='), pair.size());
    if (pair.substr(0, equals) == name) return http::percent_decode(pair.substr(std::min(equals + 1, pair.size())));
  }
  return std::nullopt;
}

std::optional<std::uint64_t> Call::number(std::string_view name) const {
  const auto text = parameter(name);
  if (!text) return std::nullopt;
  std::uint64_t value = 0;
  const auto [end, error] = std::from_chars(text->data(), text->data() + text->size(), value);
  if (error != std::errc{} || end != text->data() + text->size()) return std::nullopt;
  return value;
}

std::string Call::rest_of_path(std::string_view prefix) const {
  return http::percent_decode(std::string_view(path).substr(std::min(prefix.size(), path.size()))).value_or("");
}

Json Call::object() const {
  Json out = parse_json(body);
  return out.is_object() ? out : Json();
}

Reply bad_call(int status, const std::string& problem) {
  Reply reply = refused(Finding{Code::bad_call, {{"problem", problem}}});
  reply.status = status;
  return reply;
}

Reply refused(const std::vector<SettingsProblem>& findings) { return {409, {{"findings", json_of(findings)}}}; }

Reply refused(const Finding& finding) {
  return {status_of(finding.code), {{"findings", Json::array({json_of(finding)})}}};
}

std::optional<std::vector<std::pair<std::string, std::string>>> fields_in(const Json& object) {
  std::vector<std::pair<std::string, std::string>> out;
  const auto fields = object.find("fields");
  if (fields == object.end() || !fields->is_array()) return out;
  for (const Json& field : *fields) {
    std::string name = text_in(field, "name");
    std::string value = text_in(field, "value");
    const bool is_line = value.find_first_of("\r\n") == value.npos && value.find('\0') == value.npos;
    if (!http::is_token(name) || !is_line) return std::nullopt;
    out.emplace_back(std::move(name), std::move(value));
  }
  return out;
}

std::string text_in(const Json& object, const char* key) {
  const auto found = object.find(key);
  return found != object.end() && found->is_string() ? found->get<std::string>() : "";
}

}  // namespace porter::server
