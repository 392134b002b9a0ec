// Building a script's environment. See meta_variables.hpp.
#include "core/script/meta_variables.hpp"

#include <algorithm>

namespace porter::script {
namespace {

/// "Accept-Language" as "HTTP_ACCEPT_LANGUAGE" (RFC 3875, section 4.1.18).
std::string protocol_variable(std::string_view field_name) {
  std::string out = "HTTP_";
  out.reserve(out.size() + field_name.size());
  for (const char c : field_name) {
    const bool lower = c >= 'a' && c <= 'z';
    out += lower ? static_cast<char>(c - 32) : c == '-' ? '_' : c;
  }
  return out;
}

/// Fields that are not passed on: those that have a variable of their own, those of the connection (RFC 3875, section
/// 4.1.18), and Proxy, whose variable HTTP_PROXY many programs take for a setting.
bool is_withheld(std::string_view name) {
  for (const std::string_view withheld : {"Content-Type", "Content-Length", "Transfer-Encoding", "Connection",
                                          "Keep-Alive", "TE", "Trailer", "Proxy", "Expect", "Upgrade"})
    if (http::same_name(name, withheld)) return true;
  // A name with an underscore would take the variable of the name with a hyphen.
  return name.find('_') != name.npos;
}

}  // namespace

Environment meta_variables(const sites::ScriptFound& script, const Site& site, const http::RequestHead& head,
                           const http::Target& target, const Caller& caller, std::optional<std::uint64_t> body_length,
                           const std::vector<std::string>& passed_on) {
  Environment out(passed_on);
  const bool is_changed = !site.environment.empty() || (script.rule != nullptr && !script.rule->environment.empty());
  const auto add_all = [&out](const std::vector<std::string>& variables) {
    // That one comes last, when all of this is composed already.
    for (const std::string_view variable : variables)
      if (variable.substr(0, variable.find('=')) != kRemotePort) out.add(variable);
  };
  if (script.rule != nullptr) add_all(script.rule->environment);
  add_all(site.environment);
  // A field's value cannot hold a NUL; a decoded path cannot either.
  out.add("GATEWAY_INTERFACE", "CGI/1.1");
  out.add("SERVER_SOFTWARE", "UprightPorter/" PORTER_VERSION);
  out.add("SERVER_PROTOCOL", head.minor_version == 0 ? "HTTP/1.0" : "HTTP/1.1");
  out.add("SERVER_NAME", caller.server_host);
  out.add("SERVER_PORT", std::to_string(caller.server_port));
  out.add("REQUEST_METHOD", head.method);
  out.add("SCRIPT_NAME", script.name);
  if (!script.path_info.empty()) {
    out.add("PATH_INFO", script.path_info);
    // Encoded slashes may have brought dots along, which must not lead a program out of the root.
    if ((script.path_info + "/").find("/../") == std::string::npos)
      out.add("PATH_TRANSLATED", site.document_root + script.path_info);
  }
  out.add("QUERY_STRING", target.query);
  out.add("REMOTE_ADDR", caller.client_address);
  if (body_length) {
    out.add("CONTENT_LENGTH", std::to_string(*body_length));
    if (const auto type = head.field("Content-Type")) out.add("CONTENT_TYPE", *type);
  }
  out.add("SCRIPT_FILENAME", script.path);
  out.add("DOCUMENT_ROOT", site.document_root);
  // Settings may say that it is published over HTTPS, behind which programs find this, too.
  const auto has_https = [](const std::string& variable) { return http::same_name(variable, "HTTPS=on"); };
  const bool is_https = std::any_of(site.environment.begin(), site.environment.end(), has_https);
  out.add("REQUEST_SCHEME", is_https ? "https" : "http");
  out.add("REQUEST_URI", target.has_query ? target.raw_path + "?" + target.query : target.raw_path);
  out.add("REDIRECT_STATUS", "200");

  for (auto field = head.fields.begin(); field != head.fields.end(); ++field) {
    if (is_withheld(field->name)) continue;
    const auto same = [&](const http::Field& other) { return http::same_name(other.name, field->name); };
    if (std::any_of(head.fields.begin(), field, same)) continue;
    if (head.count(field->name) == 1) {
      out.add(protocol_variable(field->name), field->value);
    } else if (!http::same_name(field->name, "Cookie")) {
      out.add(protocol_variable(field->name), head.joined(field->name));
    } else {
      // Cookies are joined by the separator of their own list (RFC 6265, section 5.4).
      std::string cookies;
      for (const http::Field& other : head.fields)
        if (same(other)) cookies += (cookies.empty() ? "" : "; ") + std::string(other.value);
      out.add("HTTP_COOKIE", cookies);
    }
  }
  // Settings may name what is passed on, and the request decides over both. Of two variables with one name programs
  // take the first, so the earlier ones go.
  if (is_changed) out.keep_last_of_each_name();
  return out;
}

void add_remote_port(Environment& environment, std::uint16_t port) {
  environment.add(kRemotePort, std::to_string(port));
}

std::vector<std::string> query_arguments(std::string_view query) {
  std::vector<std::string> out;
  if (query.empty() || query.find('=') != query.npos) return out;
  for (;;) {
    const std::size_t plus = std::min(query.find('+'), query.size());
    auto word = http::percent_decode(query.substr(0, plus));
    // A word that cannot be an argument makes the whole query one that is not indexed.
    if (!word || word->find('\0') != std::string::npos) return {};
    out.push_back(std::move(*word));
    if (plus == query.size()) return out;
    query.remove_prefix(plus + 1);
  }
}

}  // namespace porter::script
