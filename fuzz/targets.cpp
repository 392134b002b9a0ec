// One target for each parser of the core. Beside not crashing, each checks a property that must hold of every input.
#include <cstdlib>
#include <string>

#include "core/exchange/base64.hpp"
#include "core/exchange/change.hpp"
#include "core/exchange/difference.hpp"
#include "core/exchange/har.hpp"
#include "core/exchange/message.hpp"
#include "core/exchange/secrets.hpp"
#include "core/fastcgi/records.hpp"
#include "core/http/body.hpp"
#include "core/http/conditions.hpp"
#include "core/http/date.hpp"
#include "core/http/head.hpp"
#include "core/http/host.hpp"
#include "core/http/media_type.hpp"
#include "core/http/range.hpp"
#include "core/http/target.hpp"
#include "core/script/interpreters.hpp"
#include "core/script/meta_variables.hpp"
#include "core/script/script_head.hpp"
#include "core/sites/listing.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"
#include "fuzz.hpp"

namespace porter::fuzz {
namespace {

void require(bool holds) {
  if (!holds) std::abort();
}

void head(std::string_view bytes) {
  const auto length = http::head_length(bytes, 0);
  if (!length) return;
  require(*length <= bytes.size());
  const auto parsed = http::parse_head(bytes.substr(0, *length), {});
  if (const auto* const good = std::get_if<http::RequestHead>(&parsed)) {
    for (const http::Field& field : good->fields) {
      require(http::is_token(field.name));
      require(field.value.find_first_of(std::string_view("\r\n\0", 3)) == field.value.npos);
    }
    static_cast<void>(http::body_framing(*good));
    static_cast<void>(http::evaluate_conditions(*good, {"\"a\"", 784111777}, 1700000000));
    static_cast<void>(http::range_applies(*good, {"\"a\"", 784111777}, 1700000000));
  }
}

void target(std::string_view bytes) {
  const auto parsed = http::parse_target(bytes, "GET");
  if (const auto* const good = std::get_if<http::Target>(&parsed)) {
    require(good->path.starts_with('/') && good->path.find('\0') == std::string::npos);
    require((good->path + "/").find("/../") == std::string::npos);
    require(http::percent_decode(http::percent_encode_path(good->path)) == good->path);
  }
}

void fastcgi(std::string_view bytes) {
  using Part = fastcgi::ResponseReader::Part;
  // However the bytes are split, the response is the same.
  const auto read = [bytes](std::size_t step) {
    fastcgi::ResponseReader reader(1);
    std::string out;
    std::string error;
    std::string rest;
    for (std::size_t at = 0; at < bytes.size(); at += step) {
      rest += bytes.substr(at, step);
      std::string_view view = rest;
      while (const auto part = reader.next(view)) {
        if (part->kind == Part::Kind::output) out += part->content;
        if (part->kind == Part::Kind::error) error += part->content;
        if (part->kind == Part::Kind::end_of_request)
          return out + "|" + error + "|" + std::to_string(reader.end().status);
        if (part->kind == Part::Kind::broken) return out + "|" + error + "|broken";
      }
      // Nothing but the beginning of a header is left lying.
      require(view.size() < fastcgi::kHeaderSize);
      rest = view;
    }
    return out + "|" + error;
  };
  require(read(bytes.size() + 1) == read(1));
}

void chunks(std::string_view bytes) {
  // However the bytes are split, the body is the same.
  http::ChunkReader whole;
  http::ChunkReader single;
  std::string a;
  std::string b;
  const std::size_t used = whole.read(bytes, a);
  std::size_t used_singly = 0;
  while (used_singly < bytes.size() && single.read(bytes.substr(used_singly, 1), b) == 1) ++used_singly;
  require(a == b && used == used_singly && whole.state() == single.state());
}

void host(std::string_view bytes) {
  if (const auto host = http::parse_host(bytes)) require(!host->name.empty());
}

void range(std::string_view bytes) {
  if (const auto ranges = http::select_ranges(bytes, 1000))
    for (const http::ByteRange& part : *ranges) require(part.length > 0 && part.offset + part.length <= 1000);
}

void date(std::string_view bytes) {
  if (const auto seconds = http::parse_date(bytes, 1700000000)) static_cast<void>(http::format_date(*seconds));
}

void lists(std::string_view bytes) {
  static_cast<void>(http::accepts_coding(bytes, "gzip"));
  static_cast<void>(http::list_has(bytes, "close"));
  static_cast<void>(http::parse_type_list(bytes));
  static_cast<void>(sites::order_from_query(bytes));
  static_cast<void>(script::query_arguments(bytes));
}

void response_head(std::string_view bytes) {
  static_cast<void>(script::is_surely_no_head(bytes));
  const auto length = script::script_head_length(bytes);
  if (!length) return;
  require(*length <= bytes.size());
  const auto parsed = script::parse_script_head(bytes.substr(0, *length));
  if (const auto* const good = std::get_if<script::ScriptHead>(&parsed)) {
    require(good->status >= 200 && good->status < 600);
    for (const auto& [name, value] : good->fields)
      require(http::is_token(name) && value.find_first_of("\r\n") == std::string::npos);
  }
}

void first_line(std::string_view bytes) {
  static_cast<void>(script::read_first_line(bytes).meant());
  static_cast<void>(script::version_in(bytes));
}

void text(std::string_view bytes) {
  const std::string line = text::escape_line(bytes);
  for (const char c : line) require(static_cast<unsigned char>(c) >= 0x20 && c != 0x7f);
  require(text::to_utf8(line) == line);
  require(text::escape_html(bytes).find_first_of("<>\"'") == std::string::npos);
}

/// A recorded message, read and shown in every way.
void message(std::string_view bytes) {
  constexpr std::uint64_t kMost = 1024 * 1024;
  const exchange::Message read = exchange::read_message(bytes);
  require(read.body_at <= bytes.size());
  const exchange::Body body = exchange::read_body(read, bytes, kMost);
  require(body.bytes.size() <= kMost + 16 * 1024);
  static_cast<void>(exchange::kind_of_body(read, body.bytes));
  static_cast<void>(exchange::form_fields(body.bytes));
  for (const exchange::UploadPart& part : exchange::upload_parts(read, body.bytes))
    require(part.bytes.size() <= body.bytes.size());
  require(exchange::changed_request(bytes, {}) == bytes);
  exchange::Change change;
  change.body = "gulls";
  require(exchange::changed_request(bytes, change).ends_with("\r\n\r\ngulls"));
  exchange::Recorded recorded;
  recorded.server = "127.0.0.1";
  recorded.request.bytes = bytes;
  if (exchange::why_not_by_curl(bytes) == nullptr)
    for (const char c : exchange::curl_command(recorded))
      require(c == '\n' || (static_cast<unsigned char>(c) >= 0x20 && c != 0x7f));
  static_cast<void>(exchange::upload_without_secrets(read.field("Content-Type").value_or(""), body.bytes));
  require(exchange::from_base64(exchange::to_base64(bytes)) == std::string(bytes));
}

/// Both halves as pages of JSON that are compared, and all of it as one that is looked through for secrets.
void json(std::string_view bytes) {
  const nlohmann::json value = parse_json(bytes);
  exchange::Side sides[2];
  for (exchange::Side& side : sides) side.type = "application/json";
  sides[0].page = bytes.substr(0, bytes.size() / 2);
  sides[1].page = bytes.substr(bytes.size() / 2);
  constexpr std::size_t kMostTold = 4 * 1024 * 1024;
  require(json_text(exchange::difference(sides[0], sides[1])).size() < kMostTold);
  std::string whole;
  std::string in_parts;
  exchange::JsonSecrets().feed(bytes, whole);
  exchange::JsonSecrets parts;
  for (const char c : bytes) parts.feed({&c, 1}, in_parts);
  require(whole == in_parts);
  if (value.is_discarded()) return;
  require(!parse_json(json_text(value)).is_discarded());
  require(!parse_json(whole).is_discarded());
}

/// A request and a response, in an archive with secrets and without.
void archive(std::string_view bytes) {
  exchange::Recorded recorded;
  recorded.number = 1;
  recorded.target = "/";
  const std::size_t middle = std::min(bytes.find('\0'), bytes.size());
  recorded.request.bytes = bytes.substr(0, middle);
  recorded.response.bytes = bytes.substr(std::min(middle + 1, bytes.size()));
  recorded.request.length = recorded.request.bytes.size();
  recorded.response.length = recorded.response.bytes.size() + 1;
  for (const auto secrets : {exchange::Secrets::told, exchange::Secrets::left_out}) {
    exchange::HarText::Bounds bounds;
    bounds.all = bounds.body = 1024 * 1024;
    exchange::HarText text(
        {1}, [&](std::uint64_t) { return recorded; }, secrets, bounds);
    std::string all;
    for (std::string piece; text.next(piece);) all += piece;
    require(nlohmann::json::accept(all));
  }
}

}  // namespace

const NamedTarget kTargets[] = {
    {"json", json},       {"archive", archive},
    {"message", message}, {"head", head},
    {"target", target},   {"chunks", chunks},
    {"fastcgi", fastcgi}, {"host", host},
    {"range", range},     {"date", date},
    {"lists", lists},     {"response_head", response_head},
    {"text", text},       {"first_line", first_line},
    {{}, nullptr},
};

}  // namespace porter::fuzz
