// Evaluating preconditions. See conditions.hpp.
#include "core/http/conditions.hpp"

#include <algorithm>

#include "core/http/date.hpp"

namespace porter::http {
namespace {

enum class Comparison { strong, weak };

/// The opaque part of an entity tag; "weak" tells of a "W/" before it.
struct Tag {
  std::string_view opaque;
  bool is_weak = false;
};

Tag split_tag(std::string_view text) {
  if (text.starts_with("W/")) return {text.substr(2), true};
  return {text, false};
}

bool equal(std::string_view a, std::string_view b, Comparison comparison) {
  const Tag x = split_tag(a);
  const Tag y = split_tag(b);
  if (comparison == Comparison::strong && (x.is_weak || y.is_weak)) return false;
  return x.opaque == y.opaque;
}

/// True if the list `value` is "*" or holds a tag equal to `etag`. Tags may hold commas, so the quotes are followed.
bool list_matches(std::string_view value, std::string_view etag, Comparison comparison) {
  value = trim(value);
  if (value == "*") return true;
  while (!value.empty()) {
    const std::size_t open = value.find('"');
    const std::size_t close = open == value.npos ? value.npos : value.find('"', open + 1);
    if (close == value.npos) return false;
    const bool weak = open >= 2 && value.substr(open - 2, 2) == "W/";
    const std::size_t start = weak ? open - 2 : open;
    if (equal(value.substr(start, close + 1 - start), etag, comparison)) return true;
    value.remove_prefix(close + 1);
  }
  return false;
}

/// True if a field of that name matches; each is a list of its own (RFC 9110, section 5.3).
bool any_matches(const RequestHead& head, std::string_view name, std::string_view etag, Comparison comparison) {
  return std::any_of(head.fields.begin(), head.fields.end(), [&](const Field& field) {
    return same_name(field.name, name) && list_matches(field.value, etag, comparison);
  });
}

// A second change within a second leaves the date as it is, so a date this young proves nothing.
constexpr std::int64_t kDateIsSureAfter = 2;

/// The weight of a list element's parameters, "q=0.5": true if it is above zero.
bool has_weight(std::string_view parameters) {
  const std::size_t at = parameters.find("q=");
  if (at == parameters.npos) return true;
  const std::string_view weight = parameters.substr(at + 2);
  return std::any_of(weight.begin(), weight.end(), [](char c) { return c >= '1' && c <= '9'; });
}

}  // namespace

Verdict evaluate_conditions(const RequestHead& head, const Validators& validators, std::int64_t now) {
  const bool is_read = head.method == "GET" || head.method == "HEAD";
  if (head.field("If-Match")) {
    if (!any_matches(head, "If-Match", validators.etag, Comparison::strong)) return Verdict::precondition_failed;
  } else if (const auto since = head.field("If-Unmodified-Since")) {
    const auto date = parse_date(*since, now);
    if (date && validators.modified > *date) return Verdict::precondition_failed;
  }
  if (head.field("If-None-Match")) {
    if (any_matches(head, "If-None-Match", validators.etag, Comparison::weak))
      return is_read ? Verdict::not_modified : Verdict::precondition_failed;
  } else if (const auto since = head.field("If-Modified-Since"); since && is_read) {
    const auto date = parse_date(*since, now);
    if (date && validators.modified <= *date && now - validators.modified >= kDateIsSureAfter)
      return Verdict::not_modified;
  }
  return Verdict::proceed;
}

bool range_applies(const RequestHead& head, const Validators& validators, std::int64_t now) {
  const auto condition = head.field("If-Range");
  if (!condition) return true;
  if (condition->find('"') != condition->npos) return equal(*condition, validators.etag, Comparison::strong);
  const auto date = parse_date(*condition, now);
  return date && *date == validators.modified && now - validators.modified >= kDateIsSureAfter;
}

bool accepts_coding(std::string_view value, std::string_view coding) {
  bool any = false;
  while (!value.empty()) {
    const std::size_t comma = std::min(value.find(','), value.size());
    const std::string_view element = value.substr(0, comma);
    value.remove_prefix(std::min(comma + 1, value.size()));
    const std::size_t semicolon = std::min(element.find(';'), element.size());
    const std::string_view name = trim(element.substr(0, semicolon));
    const bool weighs = has_weight(element.substr(semicolon));
    if (same_name(name, coding)) return weighs;
    if (name == "*") any = weighs;
  }
  return any;
}

}  // namespace porter::http
