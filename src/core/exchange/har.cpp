// See har.hpp. The format: http://www.softwareishard.com/blog/har-12-spec/
#include "core/exchange/har.hpp"

#include <algorithm>
#include <array>
#include <map>
#include <optional>

#include "core/exchange/base64.hpp"
#include "core/exchange/message.hpp"
#include "core/http/head.hpp"
#include "core/http/target.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"

namespace porter::exchange {
namespace {

using Json = nlohmann::json;
using Fields = std::vector<std::pair<std::string, std::string>>;

constexpr std::uint64_t kMostOfBody = 64ULL * 1024 * 1024;

bool is_secret(std::string_view name) {
  return http::same_name(name, "Authorization") || http::same_name(name, "Cookie") ||
         http::same_name(name, "Set-Cookie") || http::same_name(name, "Proxy-Authorization");
}

bool is_utf8(std::string_view text) { return text::to_utf8(text) == text; }

Json pairs(const Fields& all) {
  Json out = Json::array();
  for (const auto& [name, value] : all) out.push_back({{"name", text::to_utf8(name)}, {"value", text::to_utf8(value)}});
  return out;
}

Json shown_fields(const Message& message, Secrets secrets) {
  Fields shown;
  for (const auto& field : message.fields)
    if (secrets == Secrets::told || !is_secret(field.first)) shown.push_back(field);
  return pairs(shown);
}

/// Names and values of cookies that a request sends.
Fields sent_cookies(const Message& message) {
  Fields out;
  for (const auto& [name, value] : message.fields) {
    if (!http::same_name(name, "Cookie")) continue;
    for (std::string_view pair : text::parts_of(value, ';')) {
      pair = http::trim(pair);
      const std::size_t equals = std::min(pair.find('='), pair.size());
      out.emplace_back(pair.substr(0, equals), pair.substr(std::min(equals + 1, pair.size())));
    }
  }
  return out;
}

/// Those that an answer sets, with what it says of them.
Json set_cookies(const Message& message) {
  Json out = Json::array();
  for (const auto& [name, value] : message.fields) {
    if (!http::same_name(name, "Set-Cookie")) continue;
    const auto parts = text::parts_of(value, ';');
    const std::string_view first = parts.empty() ? std::string_view() : http::trim(parts[0]);
    const std::size_t equals = std::min(first.find('='), first.size());
    Json cookie = {{"name", text::to_utf8(first.substr(0, equals))},
                   {"value", text::to_utf8(first.substr(std::min(equals + 1, first.size())))}};
    for (std::size_t i = 1; i < parts.size(); ++i) {
      const std::string_view part = http::trim(parts[i]);
      const std::size_t at = std::min(part.find('='), part.size());
      const std::string_view key = part.substr(0, at);
      const std::string of_part = text::to_utf8(part.substr(std::min(at + 1, part.size())));
      if (http::same_name(key, "Path")) cookie["path"] = of_part;
      if (http::same_name(key, "Domain")) cookie["domain"] = of_part;
      if (http::same_name(key, "HttpOnly")) cookie["httpOnly"] = true;
      if (http::same_name(key, "Secure")) cookie["secure"] = true;
    }
    out.push_back(std::move(cookie));
  }
  return out;
}

std::string url_of(const Recorded& exchange, const Message& request) {
  if (exchange.target.starts_with("http://")) return text::to_utf8(exchange.target);
  std::string host = request.field("Host").value_or("");
  if (host.empty())
    host = (exchange.server.find(':') == exchange.server.npos ? exchange.server : "[" + exchange.server + "]") + ":" +
           std::to_string(exchange.server_port);
  const std::string target = exchange.target.starts_with('/') ? exchange.target : "/";
  return text::to_utf8("http://" + host + target);
}

Json version_of(std::string_view start_line) {
  const std::size_t at = start_line.find("HTTP/");
  return at == start_line.npos ? "HTTP/1.0" : text::to_utf8(start_line.substr(at, 8));
}

Json request_of(const Recorded& exchange, const Message& request, const std::string& url, Secrets secrets) {
  Json query = Json::array();
  if (const std::size_t mark = url.find('?'); mark != url.npos)
    query = pairs(form_fields(std::string_view(url).substr(mark + 1)));
  const std::uint64_t body =
      exchange.request.length - std::min<std::uint64_t>(exchange.request.length, request.body_at);
  Json out = {{"method", text::to_utf8(exchange.method)},
              {"url", url},
              {"httpVersion", version_of(request.start_line)},
              {"cookies", secrets == Secrets::told ? pairs(sent_cookies(request)) : Json::array()},
              {"headers", shown_fields(request, secrets)},
              {"queryString", std::move(query)},
              {"headersSize", request.body_at},
              {"bodySize", body}};
  if (body == 0) return out;
  const Body own = read_body(request, exchange.request.bytes, kMostOfBody);
  Json data = {{"mimeType", text::to_utf8(request.field("Content-Type").value_or(""))}};
  if (media_type(request) == "application/x-www-form-urlencoded") data["params"] = pairs(form_fields(own.bytes));
  data["text"] = is_utf8(own.bytes) ? own.bytes : to_base64(own.bytes);
  if (!is_utf8(own.bytes)) data["comment"] = "The text is in base64.";
  out["postData"] = std::move(data);
  return out;
}

Json answer_of(const Recorded& exchange, const Message& answer, Secrets secrets) {
  Json content = {{"mimeType", text::to_utf8(answer.field("Content-Type").value_or(""))}, {"size", 0}};
  const std::uint64_t sent = exchange.answer.length - std::min<std::uint64_t>(exchange.answer.length, answer.body_at);
  if (sent > 0) {
    const Body page = read_body(answer, exchange.answer.bytes, kMostOfBody);
    content["size"] = page.bytes.size();
    if (page.is_compressed)
      content["compression"] = static_cast<std::int64_t>(page.bytes.size()) - static_cast<std::int64_t>(sent);
    if (is_utf8(page.bytes)) {
      content["text"] = page.bytes;
    } else {
      content["text"] = to_base64(page.bytes);
      content["encoding"] = "base64";
    }
    if (exchange.answer.is_cut() || !exchange.answer.slices.empty())
      content["comment"] = "Only a part of the page is here; in all it took " + std::to_string(sent) + " bytes.";
  }
  std::string reason = answer.start_line.size() > 13 ? answer.start_line.substr(13) : "";
  return {{"status", exchange.status},
          {"statusText", text::to_utf8(reason)},
          {"httpVersion", version_of(answer.start_line)},
          {"cookies", secrets == Secrets::told ? set_cookies(answer) : Json::array()},
          {"headers", shown_fields(answer, secrets)},
          {"content", std::move(content)},
          {"redirectURL", text::to_utf8(answer.field("Location").value_or(""))},
          {"headersSize", answer.body_at},
          {"bodySize", sent}};
}

Json timings_of(const Recorded& exchange) {
  std::chrono::nanoseconds turn{0};
  for (const Run& run : exchange.runs) turn += run.turn_wait;
  const double first = millis(exchange.first_byte);
  const double blocked = std::min(millis(turn), first);
  return {{"blocked", blocked},
          {"dns", -1},
          {"connect", -1},
          {"ssl", -1},
          {"send", millis(exchange.head_wait)},
          {"wait", first - blocked},
          {"receive", std::max(0.0, millis(exchange.duration) - first)}};
}

}  // namespace

std::vector<std::uint64_t> page_loads(const std::vector<Recorded>& exchanges) {
  std::vector<std::uint64_t> out;
  // The page that a client has loaded last from a URL, so that what it loads for it is found by its Referer.
  std::map<std::pair<std::string, std::string>, std::uint64_t> page_of;
  for (const Recorded& exchange : exchanges) {
    const Message request = read_message(exchange.request.bytes);
    const Message answer = read_message(exchange.answer.bytes);
    const std::string url = url_of(exchange, request);
    const std::string page_type = media_type(answer);
    const std::string wanted = request.field("Sec-Fetch-Dest").value_or("");
    const bool is_page = wanted.empty() ? page_type == "text/html" || page_type == "application/xhtml+xml"
                                        : wanted == "document" || wanted == "iframe";
    const std::string referrer = request.field("Referer").value_or("");
    const auto of_referrer = page_of.find({exchange.client, referrer.substr(0, referrer.find('#'))});
    std::uint64_t page = 0;
    if (is_page && wanted != "iframe" && exchange.status / 100 != 3) {
      page = exchange.number;
    } else if (of_referrer != page_of.end()) {
      page = of_referrer->second;
    }
    // What a style sheet loads belongs to the page as well.
    if (page != 0) page_of[{exchange.client, url}] = page;
    out.push_back(page);
  }
  return out;
}

Json har_of(const std::vector<Recorded>& exchanges, Secrets secrets) {
  Json pages = Json::array();
  Json entries = Json::array();
  const std::vector<std::uint64_t> loads = page_loads(exchanges);
  std::size_t at = 0;
  for (const Recorded& exchange : exchanges) {
    const Message request = read_message(exchange.request.bytes);
    const Message answer = read_message(exchange.answer.bytes);
    const std::string url = url_of(exchange, request);
    Json entry = {
        {"startedDateTime",
         text::format_time(exchange.time - std::chrono::duration_cast<std::chrono::microseconds>(exchange.head_wait))},
        {"request", request_of(exchange, request, url, secrets)},
        {"response", answer_of(exchange, answer, secrets)},
        {"cache", Json::object()},
        {"timings", timings_of(exchange)},
        {"serverIPAddress", exchange.server},
        {"connection", std::to_string(exchange.client_port)},
        {"_exchange", exchange.number}};
    const Json& timings = entry["timings"];
    entry["time"] = timings["blocked"].get<double>() + timings["send"].get<double>() + timings["wait"].get<double>() +
                    timings["receive"].get<double>();
    if (exchange.server.empty()) entry.erase("serverIPAddress");
    if (exchange.is_in_progress) entry["comment"] = "It was still in progress.";
    if (const std::uint64_t page = loads[at++]; page == exchange.number) {
      pages.push_back({{"startedDateTime", entry["startedDateTime"]},
                       {"id", "page_" + std::to_string(page)},
                       {"title", url},
                       {"pageTimings", {{"onContentLoad", -1}, {"onLoad", -1}}}});
      entry["pageref"] = "page_" + std::to_string(page);
    } else if (page != 0) {
      entry["pageref"] = "page_" + std::to_string(page);
    }
    entries.push_back(std::move(entry));
  }
  return {{"log",
           {{"version", "1.2"},
            {"creator", {{"name", "Upright Porter"}, {"version", PORTER_VERSION}}},
            {"pages", std::move(pages)},
            {"entries", std::move(entries)}}}};
}

std::variant<Side, std::string> side_in_har(const std::string& text, std::size_t number, const std::string& name) {
  const Json archive = parse_json(text);
  const auto at = [](const Json& in, const char* key) { return in.is_object() && in.contains(key) ? in[key] : Json(); };
  const auto text_at = [&](const Json& in, const char* key) {
    const Json value = at(in, key);
    return value.is_string() ? value.get<std::string>() : std::string();
  };
  const Json entries = at(at(archive, "log"), "entries");
  if (!entries.is_array()) return "it is not a HAR: there are no entries in it";
  if (number < 1 || number > entries.size())
    return "it has " + std::to_string(entries.size()) + " entries, and number " + std::to_string(number) +
           " is none of them";
  const Json& entry = entries[number - 1];
  const Json answer = at(entry, "response");
  if (!answer.is_object()) return "entry " + std::to_string(number) + " has no answer";
  Side side;
  side.name = name;
  if (const Json status = at(answer, "status"); status.is_number_integer()) side.status = status.get<int>();
  if (const Json fields = at(answer, "headers"); fields.is_array())
    for (const Json& field : fields) side.fields.emplace_back(text_at(field, "name"), text_at(field, "value"));
  const Json content = at(answer, "content");
  side.type = text_at(content, "mimeType");
  side.page = text_at(content, "text");
  if (text_at(content, "encoding") == "base64") {
    auto plain = from_base64(side.page);
    if (!plain) return "the page of entry " + std::to_string(number) + " is not base64, as it says";
    side.page = std::move(*plain);
  }
  if (const Json time = at(entry, "time"); time.is_number()) side.milliseconds = time.get<double>();
  return side;
}

}  // namespace porter::exchange
