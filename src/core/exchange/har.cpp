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

Json pairs(const Fields& all) {
  Json out = Json::array();
  for (const auto& [name, value] : all) out.push_back({{"name", text::to_utf8(name)}, {"value", text::to_utf8(value)}});
  return out;
}

/// `text` as it may be told.
std::string shown(std::string_view text, Secrets secrets) {
  return secrets == Secrets::told ? std::string(text) : without_secrets(text);
}

Json shown_fields(const Message& message, Secrets secrets) {
  if (secrets == Secrets::told) return pairs(message.fields);
  Fields all;
  std::string previous;
  for (const auto& [name, value] : message.fields) {
    all.push_back(without_secrets(name, value, previous));
    // A continued line is one with the field above, however many there are of them.
    if (!name.starts_with(' ') && !name.starts_with('\t')) previous = name;
  }
  return pairs(all);
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

/// Those that a response sets, with what it says of them.
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

std::uint64_t body_bytes(const Wire& wire, const Message& message) {
  return wire.length - std::min<std::uint64_t>(wire.length, message.body_at);
}

Json request_of(const Recorded& exchange, const Message& request, const std::string& url, Secrets secrets) {
  Json query = Json::array();
  if (const std::size_t mark = url.find('?'); mark != url.npos)
    query = pairs(form_fields(std::string_view(url).substr(mark + 1)));
  return {{"method", text::to_utf8(exchange.method)},
          {"url", url},
          {"httpVersion", version_of(request.start_line)},
          {"cookies", secrets == Secrets::told ? pairs(sent_cookies(request)) : Json::array()},
          {"headers", shown_fields(request, secrets)},
          {"queryString", std::move(query)},
          {"headersSize", request.body_at},
          {"bodySize", body_bytes(exchange.request, request)}};
}

Json response_of(const Recorded& exchange, const Message& response, Secrets secrets) {
  const std::string reason = response.start_line.size() > 13 ? response.start_line.substr(13) : "";
  return {{"status", exchange.status},
          {"statusText", text::to_utf8(shown(reason, secrets))},
          {"httpVersion", version_of(response.start_line)},
          {"cookies", secrets == Secrets::told ? set_cookies(response) : Json::array()},
          {"headers", shown_fields(response, secrets)},
          {"redirectURL", text::to_utf8(shown(response.field("Location").value_or(""), secrets))},
          {"headersSize", response.body_at},
          {"bodySize", body_bytes(exchange.response, response)}};
}

Json timings_of(const Recorded& exchange) {
  std::chrono::nanoseconds queue{0};
  for (const Run& run : exchange.runs) queue += run.queue_wait;
  const double first = millis(exchange.first_byte);
  const double blocked = std::min(millis(queue), first);
  return {{"blocked", blocked},
          {"dns", -1},
          {"connect", -1},
          {"ssl", -1},
          {"send", millis(exchange.head_wait)},
          {"wait", first - blocked},
          {"receive", std::max(0.0, millis(exchange.duration) - first)}};
}

}  // namespace

std::uint64_t PageLoads::page_of(const Recorded& exchange) {
  constexpr std::size_t kMostPages = 2000;
  constexpr std::size_t kLongestUrl = 2000;
  const Message request = read_message(exchange.request.bytes);
  const Message response = read_message(exchange.response.bytes);
  const std::string url = url_of(exchange, request);
  const std::string page_type = media_type(response);
  const std::string wanted = request.field("Sec-Fetch-Dest").value_or("");
  const bool is_page = wanted.empty() ? page_type == "text/html" || page_type == "application/xhtml+xml"
                                      : wanted == "document" || wanted == "iframe";
  const std::string referrer = request.field("Referer").value_or("");
  const auto of_referrer = pages_.find({exchange.client, referrer.substr(0, referrer.find('#'))});
  std::uint64_t page = 0;
  if (is_page && wanted != "iframe" && exchange.status / 100 != 3) {
    page = exchange.number;
  } else if (of_referrer != pages_.end()) {
    page = of_referrer->second;
  }
  // What a style sheet loads belongs to the page as well.
  if (page != 0 && url.size() <= kLongestUrl) pages_[{exchange.client, url}] = page;
  if (pages_.size() > kMostPages)
    std::erase_if(pages_, [&](const auto& one) { return one.second + kMostPages / 2 < exchange.number; });
  return page;
}

namespace {

constexpr std::size_t kPieceOfArchive = 64 * 1024;

void append_escaped(std::string& out, std::string_view text) {
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (c == '\n') {
      out += "\\n";
    } else if (byte < 0x20) {
      constexpr std::string_view kDigits = "0123456789abcdef";
      out += "\\u00";
      out += kDigits[byte >> 4];
      out += kDigits[byte & 15];
    } else {
      out += c;
    }
  }
}

/// An object of JSON as text, without the brace at its end: more members follow.
std::string begun(const Json& object) {
  std::string out = json_text(object);
  out.pop_back();
  return out;
}

/// How the secrets of a body are found; null: it is one in which nobody looks for any.
std::unique_ptr<SecretFilter> filter_for(const Message& message, std::string_view beginning, bool is_request) {
  const std::string type = media_type(message);
  if (type == "application/json" || type.ends_with("+json") || type == "application/x-ndjson")
    return std::make_unique<JsonSecrets>();
  if (type == "application/x-www-form-urlencoded") return std::make_unique<FormSecrets>();
  if (!is_request || (!type.empty() && type != "text/plain")) return nullptr;
  // What a client has sent without saying what it is.
  const std::size_t first = beginning.find_first_not_of(" \t\r\n");
  if (first != beginning.npos && (beginning[first] == '{' || beginning[first] == '['))
    return std::make_unique<JsonSecrets>();
  return std::make_unique<FormSecrets>();
}

}  // namespace

/// A body as the text of a JSON string, piece by piece. It is read twice: what it is has to be known before its first
/// letter is written.
class HarText::Body {
 public:
  Body(const Message& message, const Wire& wire, Secrets secrets, bool is_request, std::uint64_t most)
      : message_(message), wire_(wire), most_(most), source_(std::make_unique<BodyPieces>(message, wire)) {
    survey(secrets, is_request);
    source_ = std::make_unique<BodyPieces>(message, wire);
  }

  std::uint64_t size() const { return size_; }
  bool is_compressed() const { return is_compressed_; }
  bool is_base64() const { return !is_text_; }
  /// Whether there is more of it than is told.
  bool is_cut() const { return is_cut_ || wire_.is_cut(); }
  /// Whether none of it may be told, since it cannot be looked through.
  bool is_withheld() const { return is_withheld_; }

  /// Appends the next piece to `out`. False: there is no more.
  bool next(std::string& out) {
    std::string piece;
    if (!is_withheld_ && take(piece)) {
      append(piece, out);
      return true;
    }
    // A character whose end is missing is dropped.
    if (!is_text_) out += to_base64(std::exchange(rest_, {}));
    return false;
  }

 private:
  void survey(Secrets secrets, bool is_request) {
    std::string beginning;
    std::string unfinished;  // A character may be cut in two by the end of a piece.
    for (std::string piece; size_ < most_ && source_->next(piece);) {
      if (beginning.empty()) beginning = piece.substr(0, kMostSniffed);
      size_ += piece.size();
      if (!is_text_) continue;
      unfinished += piece;
      const std::size_t whole = text::whole_characters(unfinished);
      is_text_ = text::is_utf8(std::string_view(unfinished).substr(0, whole));
      unfinished.erase(0, whole);
    }
    is_text_ = is_text_ && (unfinished.empty() || size_ >= most_);
    is_cut_ = size_ >= most_ || source_->is_incomplete();
    is_compressed_ = source_->is_compressed();
    if (secrets == Secrets::told) return;
    if (media_type(message_) == "multipart/form-data") {
      const auto body = read_body(message_, wire_.bytes, most_);
      upload_ = upload_without_secrets(message_.field("Content-Type").value_or(""), body.bytes);
      is_withheld_ = !upload_;
      return;
    }
    filter_ = filter_for(message_, beginning, is_request);
  }

  /// What may be told next. False: there is no more.
  bool take(std::string& piece) {
    if (upload_) {
      piece = std::exchange(*upload_, {});
      return !piece.empty();
    }
    if (done_ >= most_ || !source_->next(piece)) return false;
    piece.resize(static_cast<std::size_t>(std::min<std::uint64_t>(piece.size(), most_ - done_)));
    done_ += piece.size();
    if (!filter_) return true;
    std::string told;
    filter_->feed(piece, told);
    piece = std::move(told);
    return true;
  }

  /// Neither half a character of UTF-8 nor three bytes that are four letters are cut in two: their beginning waits.
  void append(std::string_view piece, std::string& out) {
    rest_ += piece;
    const std::size_t whole = is_text_ ? text::whole_characters(rest_) : rest_.size() / 3 * 3;
    const std::string_view now = std::string_view(rest_).substr(0, whole);
    if (is_text_) {
      append_escaped(out, now);
    } else {
      out += to_base64(now);
    }
    rest_.erase(0, whole);
  }

  static constexpr std::size_t kMostSniffed = 64;

  const Message& message_;
  const Wire& wire_;
  const std::uint64_t most_;
  std::unique_ptr<BodyPieces> source_;
  std::unique_ptr<SecretFilter> filter_;
  std::optional<std::string> upload_;
  std::uint64_t size_ = 0;
  std::uint64_t done_ = 0;
  bool is_text_ = true;
  bool is_compressed_ = false;
  bool is_cut_ = false;
  bool is_withheld_ = false;
  std::string rest_;
};

/// The exchange whose entry is being written.
struct HarText::Entry {
  Recorded exchange;
  Message request;
  Message response;
};

HarText::HarText(std::vector<std::uint64_t> numbers, Find find, Secrets secrets)
    : HarText(std::move(numbers), std::move(find), secrets, Bounds()) {}

HarText::HarText(std::vector<std::uint64_t> numbers, Find find, Secrets secrets, Bounds bounds)
    : numbers_(std::move(numbers)), find_(std::move(find)), secrets_(secrets), bounds_(bounds) {}

HarText::~HarText() = default;

bool HarText::next(std::string& piece) {
  piece.clear();
  while (piece.size() < kPieceOfArchive && stage_ != Stage::over) {
    switch (stage_) {
      case Stage::head:
        piece += "{\"log\":" +
                 begun({{"version", "1.2"}, {"creator", {{"name", "Upright Porter"}, {"version", PORTER_VERSION}}}}) +
                 ",\"entries\":[";
        stage_ = Stage::entries;
        break;
      case Stage::entries:
        begin_entry(piece);
        break;
      case Stage::request_body:
      case Stage::response_body:
        add_to_body(piece);
        break;
      case Stage::response:
        begin_response(piece);
        break;
      case Stage::rest_of_entry:
        end_entry(piece);
        break;
      case Stage::tail:
        end(piece);
        break;
      case Stage::over:
        break;
    }
  }
  written_ += piece.size();
  return !piece.empty();
}

void HarText::begin_entry(std::string& piece) {
  if (at_ == numbers_.size() || written_ + piece.size() >= bounds_.all) {
    left_out_ = numbers_.size() - at_;
    stage_ = Stage::tail;
    return;
  }
  auto found = find_(numbers_[at_++]);
  if (!found) {
    ++gone_;
    return;
  }
  entry_ = std::make_unique<Entry>(Entry{std::move(*found), {}, {}});
  const Recorded& exchange = entry_->exchange;
  entry_->request = read_message(exchange.request.bytes);
  entry_->response = read_message(exchange.response.bytes);
  const std::string url = shown(url_of(exchange, entry_->request), secrets_);
  Json facts = {
      {"startedDateTime",
       text::format_time(exchange.time - std::chrono::duration_cast<std::chrono::microseconds>(exchange.head_wait))},
      {"cache", Json::object()},
      {"timings", timings_of(exchange)},
      {"connection", std::to_string(exchange.client_port)},
      {"_exchange", exchange.number}};
  const Json& timings = facts["timings"];
  facts["time"] = timings["blocked"].get<double>() + timings["send"].get<double>() + timings["wait"].get<double>() +
                  timings["receive"].get<double>();
  if (!exchange.server.empty()) facts["serverIPAddress"] = exchange.server;
  if (exchange.is_in_progress) facts["comment"] = "It was still in progress.";
  if (const std::uint64_t page = loads_.page_of(exchange); page != 0) {
    facts["pageref"] = "page_" + std::to_string(page);
    constexpr std::size_t kLongestTitle = 500;
    if (page == exchange.number)
      pages_.push_back(json_text({{"startedDateTime", facts["startedDateTime"]},
                                  {"id", facts["pageref"]},
                                  {"title", url.substr(0, kLongestTitle)},
                                  {"pageTimings", {{"onContentLoad", -1}, {"onLoad", -1}}}}));
  }
  piece += (entries_++ == 0 ? "\n" : ",\n") + begun(facts) +
           ",\"request\":" + begun(request_of(exchange, entry_->request, url, secrets_));
  if (body_bytes(exchange.request, entry_->request) == 0) {
    stage_ = Stage::response;
    return;
  }
  body_ = std::make_unique<Body>(entry_->request, exchange.request, secrets_, true, bounds_.body);
  Json data = {{"mimeType", text::to_utf8(entry_->request.field("Content-Type").value_or(""))}};
  if (media_type(entry_->request) == "application/x-www-form-urlencoded") data["params"] = pairs(form_params());
  piece += ",\"postData\":" + begun(data) + ",\"text\":\"";
  stage_ = Stage::request_body;
}

std::vector<std::pair<std::string, std::string>> HarText::form_params() const {
  const std::string body = read_body(entry_->request, entry_->exchange.request.bytes, bounds_.body).bytes;
  if (secrets_ == Secrets::told) return form_fields(body);
  std::string told;
  FormSecrets().feed(body, told);
  return form_fields(told);
}

void HarText::begin_response(std::string& piece) {
  const Wire& wire = entry_->exchange.response;
  Json content = {{"mimeType", text::to_utf8(entry_->response.field("Content-Type").value_or(""))}};
  const bool has_body = body_bytes(wire, entry_->response) > 0;
  if (!has_body) content["size"] = 0;
  piece += "},\"response\":" + begun(response_of(entry_->exchange, entry_->response, secrets_)) +
           ",\"content\":" + begun(content);
  if (!has_body) {
    piece += "}";
    stage_ = Stage::rest_of_entry;
    return;
  }
  body_ = std::make_unique<Body>(entry_->response, wire, secrets_, false,
                                 wire.slices.empty() ? bounds_.body : bounds_.file);
  piece += ",\"text\":\"";
  stage_ = Stage::response_body;
}

void HarText::add_to_body(std::string& piece) {
  const bool is_full = written_ + piece.size() >= bounds_.all;
  if (!is_full && body_->next(piece)) return;
  const bool is_request = stage_ == Stage::request_body;
  const Wire& wire = is_request ? entry_->exchange.request : entry_->exchange.response;
  const std::uint64_t sent = body_bytes(wire, is_request ? entry_->request : entry_->response);
  Json facts = Json::object();
  if (!is_request) {
    facts["size"] = body_->size();
    if (body_->is_compressed())
      facts["compression"] = static_cast<std::int64_t>(body_->size()) - static_cast<std::int64_t>(sent);
    if (body_->is_base64()) facts["encoding"] = "base64";
  }
  std::string comment;
  if (is_request && body_->is_base64()) comment = "The text is in base64.";
  if (body_->is_withheld()) {
    comment = "It may hold secrets and cannot be looked through, so it is left out.";
  } else if (is_full) {
    comment =
        "Only its beginning is here, if anything: the archive has come to " + text::format_limit(bounds_.all) + ".";
  } else if (body_->is_cut()) {
    comment += (comment.empty() ? "Only a part is here; in all it took " : " Only a part is here; in all it took ") +
               std::to_string(sent) + " bytes.";
  }
  if (!comment.empty()) facts["comment"] = comment;
  const std::string told = json_text(facts);
  piece += '"' + (facts.empty() ? "}" : "," + told.substr(1));
  body_.reset();
  stage_ = is_request ? Stage::response : Stage::rest_of_entry;
}

void HarText::end_entry(std::string& piece) {
  piece += "}}";
  entry_.reset();
  stage_ = Stage::entries;
}

void HarText::end(std::string& piece) {
  piece += "\n],\"pages\":[";
  for (std::size_t i = 0; i < pages_.size(); ++i) piece += (i == 0 ? "" : ",") + pages_[i];
  piece += ']';
  std::string comment;
  if (left_out_ > 0)
    comment = "The archive has come to " + text::format_limit(bounds_.all) + ", so the last " +
              std::to_string(left_out_) + " exchanges are left out.";
  if (gone_ > 0)
    comment += (comment.empty() ? "" : " ") + std::to_string(gone_) +
               " exchanges had to make room for newer ones while it was written.";
  if (!comment.empty()) piece += ",\"comment\":" + json_text(comment);
  piece += "}}\n";
  stage_ = Stage::over;
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
  const Json response = at(entry, "response");
  if (!response.is_object()) return "entry " + std::to_string(number) + " has no response";
  Side side;
  side.name = name;
  if (const Json status = at(response, "status"); status.is_number_integer()) side.status = status.get<int>();
  if (const Json fields = at(response, "headers"); fields.is_array())
    for (const Json& field : fields) side.fields.emplace_back(text_at(field, "name"), text_at(field, "value"));
  const Json content = at(response, "content");
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
