// See difference.hpp.
#include "core/exchange/difference.hpp"

#include <algorithm>
#include <dtl/dtl.hpp>
#include <map>
#include <set>

#include "core/exchange/message.hpp"
#include "core/http/head.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"

namespace porter::exchange {
namespace {

using Json = nlohmann::json;
using Lines = std::vector<std::string>;

/// So many lines around a change are shown.
constexpr std::size_t kAround = 3;
/// Beyond so many pairs of lines what differs is told as a whole: comparing takes a time that grows with them.
constexpr std::size_t kMostPairs = 40'000'000;
/// A difference is told in so many pieces, and in so much text, at most: it is there to be read.
constexpr std::size_t kMostPlaces = 1000;
constexpr std::size_t kMostShownLines = 2000;
constexpr std::size_t kMostShownText = 256 * 1024;
/// Of one line, or of one value of JSON, at most so much is shown.
constexpr std::size_t kMostOfPiece = 2000;
/// A value that nests deeper is shown as text, since what tells of it is JSON that may not nest too deeply itself.
constexpr int kShownLevels = 16;

/// Fields that are another for every response.
bool always_differs(std::string_view name) {
  constexpr std::string_view kNames[] = {"Date", "Age", "Server-Timing", "X-Request-Id", "X-Runtime"};
  return std::any_of(std::begin(kNames), std::end(kNames),
                     [&](std::string_view own) { return http::same_name(own, name); });
}

/// Variables that are another for every run.
bool always_differs_in_runs(std::string_view variable) {
  constexpr std::string_view kNames[] = {"REMOTE_PORT", "REQUEST_TIME", "UNIQUE_ID"};
  const std::string_view name = variable.substr(0, variable.find('='));
  return std::find(std::begin(kNames), std::end(kNames), name) != std::end(kNames);
}

Lines lines_of(std::string_view text) {
  Lines out;
  for (std::string_view line : text::parts_of(text, '\n')) out.emplace_back(line);
  if (!out.empty() && out.back().empty()) out.pop_back();
  return out;
}

/// One line of what a comparison shows: " " on both sides, "-" on the left, "+" on the right.
struct Marked {
  char mark;
  const std::string* text;
  std::size_t left;  ///< Its number there, from 1; 0: it is not there.
  std::size_t right;
};

std::vector<Marked> compare_lines(const Lines& left, const Lines& right) {
  std::vector<Marked> out;
  // What is the same at both ends needs no search.
  std::size_t first = 0;
  while (first < left.size() && first < right.size() && left[first] == right[first]) ++first;
  std::size_t same = 0;
  while (same < left.size() - first && same < right.size() - first &&
         left[left.size() - 1 - same] == right[right.size() - 1 - same])
    ++same;
  for (std::size_t i = 0; i < first; ++i) out.push_back({' ', &left[i], i + 1, i + 1});
  const std::size_t left_end = left.size() - same;
  const std::size_t right_end = right.size() - same;
  if ((left_end - first) * (right_end - first) > kMostPairs) {
    for (std::size_t i = first; i < left_end; ++i) out.push_back({'-', &left[i], i + 1, 0});
    for (std::size_t i = first; i < right_end; ++i) out.push_back({'+', &right[i], 0, i + 1});
  } else {
    dtl::Diff<std::string, Lines> search(
        Lines(left.begin() + static_cast<std::ptrdiff_t>(first), left.begin() + static_cast<std::ptrdiff_t>(left_end)),
        Lines(right.begin() + static_cast<std::ptrdiff_t>(first),
              right.begin() + static_cast<std::ptrdiff_t>(right_end)));
    search.onHuge();
    search.compose();
    std::size_t at_left = first;
    std::size_t at_right = first;
    for (const auto& [line, info] : search.getSes().getSequence()) {
      if (info.type == dtl::SES_DELETE) {
        out.push_back({'-', &left[at_left], at_left + 1, 0});
        ++at_left;
      } else if (info.type == dtl::SES_ADD) {
        out.push_back({'+', &right[at_right], 0, at_right + 1});
        ++at_right;
      } else {
        out.push_back({' ', &left[at_left], at_left + 1, at_right + 1});
        ++at_left;
        ++at_right;
      }
    }
  }
  // Of what takes the place of something the old comes first.
  for (auto at = out.begin(); at != out.end();) {
    const auto is_same = [](const Marked& line) { return line.mark == ' '; };
    const auto begin = std::find_if_not(at, out.end(), is_same);
    at = std::find_if(begin, out.end(), is_same);
    std::stable_partition(begin, at, [](const Marked& line) { return line.mark == '-'; });
  }
  for (std::size_t i = 0; i < same; ++i) out.push_back({' ', &left[left_end + i], left_end + i + 1, right_end + i + 1});
  return out;
}

/// The beginning of `text`, if it is too long to be shown whole.
std::string beginning_of(std::string_view text) {
  if (text.size() <= kMostOfPiece) return text::to_utf8(text);
  std::size_t end = kMostOfPiece;
  while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xc0) == 0x80) --end;  // No half of a character.
  return text::to_utf8(text.substr(0, end)) + "…";
}

/// What is still to be told of a difference that is told in bounded pieces.
class Room {
 public:
  Room(std::size_t pieces, std::size_t text) : pieces_(pieces), text_(text) {}
  /// Takes room for a piece with `size` bytes of text. False: there is none left, now and for all that comes.
  bool take(std::size_t size) {
    if (pieces_ == 0 || text_ < size) pieces_ = text_ = 0;
    if (pieces_ == 0) return false;
    --pieces_;
    text_ -= size;
    return true;
  }
  bool is_used_up() const { return pieces_ == 0; }

 private:
  std::size_t pieces_;
  std::size_t text_;
};

/// The lines that differ with some around them; in place of what is left out its count. What there is no room for is
/// counted in `more`.
Json compare_text(std::string_view left, std::string_view right, std::size_t& more) {
  const Lines left_lines = lines_of(left);
  const Lines right_lines = lines_of(right);
  const std::vector<Marked> all = compare_lines(left_lines, right_lines);
  std::vector<bool> is_shown(all.size(), false);
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (all[i].mark == ' ') continue;
    const std::size_t end = std::min(all.size(), i + kAround + 1);
    for (std::size_t near = i - std::min(i, kAround); near < end; ++near) is_shown[near] = true;
  }
  Json out = Json::array();
  std::size_t left_out = 0;
  const auto tell_left_out = [&] {
    if (left_out > 0) out.push_back({{"mark", "…"}, {"count", left_out}});
    left_out = 0;
  };
  Room room(kMostShownLines, kMostShownText);
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (!is_shown[i]) {
      ++left_out;
      continue;
    }
    std::string shown = room.is_used_up() ? std::string() : beginning_of(*all[i].text);
    if (!room.take(shown.size())) {
      more += all[i].mark == ' ' ? 0 : 1;
      continue;
    }
    tell_left_out();
    Json line = {{"mark", std::string(1, all[i].mark)}, {"text", std::move(shown)}};
    if (all[i].left != 0) line["left"] = all[i].left;
    if (all[i].right != 0) line["right"] = all[i].right;
    out.push_back(std::move(line));
  }
  if (more == 0) tell_left_out();
  return out;
}

/// Two values of JSON, compared in one walk down both: each value is looked at once, and the walk is no deeper than
/// parse_json() lets a text nest.
class JsonComparison {
 public:
  JsonComparison(const Json& left, const Json& right) { compare(left, right); }

  /// What differs, place by place, as RFC 6901 writes places.
  Json take_places() { return std::move(places_); }
  /// Places beyond those.
  std::size_t more() const { return more_; }

 private:
  void compare(const Json& left, const Json& right) {
    if (left.is_object() && right.is_object()) return compare_objects(left, right);
    if (left.is_array() && right.is_array()) return compare_arrays(left, right);
    if (left != right) tell(&left, &right);
  }

  void compare_objects(const Json& left, const Json& right) {
    std::set<std::string> names;
    for (const Json* const side : {&left, &right})
      for (const auto& [name, value] : side->items()) names.insert(name);
    for (const std::string& name : names) {
      std::string escaped;
      for (const char c : name) escaped += c == '~' ? "~0" : c == '/' ? "~1" : std::string(1, c);
      compare_below(escaped, left.contains(name) ? &left[name] : nullptr,
                    right.contains(name) ? &right[name] : nullptr);
    }
  }

  void compare_arrays(const Json& left, const Json& right) {
    for (std::size_t i = 0; i < std::max(left.size(), right.size()); ++i)
      compare_below(std::to_string(i), i < left.size() ? &left[i] : nullptr, i < right.size() ? &right[i] : nullptr);
  }

  void compare_below(const std::string& name, const Json* left, const Json* right) {
    const std::size_t length = place_.size();
    place_ += "/" + name;
    if (left != nullptr && right != nullptr) {
      compare(*left, *right);
    } else {
      tell(left, right);
    }
    place_.resize(length);
  }

  /// Adds a place with the values that are there; null: there is none.
  void tell(const Json* left, const Json* right) {
    Json row = {{"place", beginning_of(place_)}};
    std::size_t size = place_.size();
    for (const auto& [key, value] : {std::pair("left", left), std::pair("right", right)}) {
      if (value == nullptr || room_.is_used_up()) continue;
      std::string text = json_text(*value);
      size += std::min(text.size(), kMostOfPiece);
      if (text.size() > kMostOfPiece) {
        row[key] = beginning_of(text);
        row[std::string(key) + "_bytes"] = text.size();
      } else if (is_shallow(*value, kShownLevels)) {
        row[key] = *value;
      } else {
        row[key] = std::move(text);
      }
    }
    if (room_.take(size)) {
      places_.push_back(std::move(row));
    } else {
      ++more_;
    }
  }

  static bool is_shallow(const Json& value, int levels) {
    if (!value.is_structured()) return true;
    return levels > 0 &&
           std::all_of(value.begin(), value.end(), [&](const Json& part) { return is_shallow(part, levels - 1); });
  }

  std::string place_;
  Json places_ = Json::array();
  Room room_{kMostPlaces, kMostShownText};
  std::size_t more_ = 0;
};

BodyKind kind_of_page(const Side& side) {
  Message message;
  message.fields.emplace_back("Content-Type", side.type);
  return kind_of_body(message, side.page);
}

Json compare_pages(const Side& left, const Side& right) {
  Json out = {{"alike", left.page == right.page}, {"left_bytes", left.page.size()}, {"right_bytes", right.page.size()}};
  const BodyKind kinds[] = {kind_of_page(left), kind_of_page(right)};
  const auto has = [&](BodyKind kind) { return kinds[0] == kind || kinds[1] == kind; };
  if (kinds[0] == BodyKind::json && kinds[1] == BodyKind::json) {
    const Json values[] = {parse_json(left.page), parse_json(right.page)};
    if (!values[0].is_discarded() && !values[1].is_discarded()) {
      out["kind"] = "json";
      JsonComparison comparison(values[0], values[1]);
      out["places"] = comparison.take_places();
      if (comparison.more() > 0) out["more"] = comparison.more();
      // Spaces and the order of names mean nothing there.
      out["alike"] = out["places"].empty();
      return out;
    }
  }
  if (has(BodyKind::binary) || has(BodyKind::upload)) {
    out["kind"] = "bytes";
    const auto mismatch = std::mismatch(left.page.begin(), left.page.end(), right.page.begin(), right.page.end());
    if (left.page != right.page) out["first_difference"] = mismatch.first - left.page.begin();
    return out;
  }
  out["kind"] = "text";
  std::size_t more = 0;
  out["lines"] = left.page == right.page ? Json::array() : compare_text(left.page, right.page, more);
  if (more > 0) out["more"] = more;
  return out;
}

/// Fields of one name are compared as one list, in their order.
std::map<std::string, std::vector<std::string>> by_name(const Side& side) {
  std::map<std::string, std::vector<std::string>> out;
  for (const auto& [name, value] : side.fields) out[text::to_lower(name)].push_back(value);
  return out;
}

std::string shown_name(const Side& left, const Side& right, const std::string& lower) {
  for (const Side* const side : {&left, &right})
    for (const auto& [name, value] : side->fields)
      if (http::same_name(name, lower)) return name;
  return lower;
}

Json optional_number(const std::optional<int>& number) { return number ? Json(*number) : Json(); }

Json compare_runs(const Side& left, const Side& right, bool& is_alike) {
  Json out = Json::array();
  const auto tell = [&](const std::string& what, const Json& of_left, const Json& of_right) {
    if (of_left != of_right) out.push_back({{"what", what}, {"left", of_left}, {"right", of_right}});
    return of_left == of_right;
  };
  is_alike = tell("runs", left.runs.size(), right.runs.size());
  for (std::size_t i = 0; i < std::min(left.runs.size(), right.runs.size()); ++i) {
    const Run& a = left.runs[i];
    const Run& b = right.runs[i];
    for (const bool same : {tell("runner", text::to_utf8(a.runner), text::to_utf8(b.runner)),
                            // What is kept tells of an exit status only where that is not 0.
                            tell("exit status", a.exit_status.value_or(0), b.exit_status.value_or(0)),
                            tell("signal", optional_number(a.signal), optional_number(b.signal))})
      is_alike = is_alike && same;
    const auto errors = [](const Run& run) {
      Json all = Json::array();
      for (const std::string& line : run.error_lines) all.push_back(text::to_utf8(line));
      return all;
    };
    is_alike = tell("error stream", errors(a), errors(b)) && is_alike;
    tell("script", text::to_utf8(a.script), text::to_utf8(b.script));
    std::map<std::string, std::string> variables[2];
    for (const int side : {0, 1})
      for (const std::string& variable : (side == 0 ? a : b).environment)
        if (!always_differs_in_runs(variable))
          variables[side][variable.substr(0, variable.find('='))] = variable.substr(variable.find('=') + 1);
    std::set<std::string> names;
    for (const auto& all : variables)
      for (const auto& [name, value] : all) names.insert(name);
    const auto value_of = [](const std::map<std::string, std::string>& all, const std::string& name) {
      const auto found = all.find(name);
      return found == all.end() ? Json() : Json(text::to_utf8(found->second));
    };
    for (const std::string& name : names) tell(name, value_of(variables[0], name), value_of(variables[1], name));
  }
  return out;
}

}  // namespace

Side side_of(const Recorded& exchange) {
  Side side;
  side.name = std::to_string(exchange.number);
  side.status = exchange.status;
  const Message response = read_message(exchange.response.bytes);
  side.fields = response.fields;
  side.type = response.field("Content-Type").value_or("");
  side.page = read_body(response, exchange.response.bytes, kMostCompared).bytes;
  side.milliseconds = millis(exchange.duration);
  side.runs = exchange.runs;
  return side;
}

Json difference(const Side& left, const Side& right) {
  Json out = {{"left", left.name}, {"right", right.name}};
  bool is_alike = true;
  // A file has neither a status nor fields.
  if (!left.is_file && !right.is_file) {
    out["status"] = {{"left", left.status}, {"right", right.status}};
    is_alike = left.status == right.status;
    Json fields = Json::array();
    Json left_out = Json::array();
    auto left_fields = by_name(left);
    auto right_fields = by_name(right);
    std::set<std::string> names;
    for (const auto* const side : {&left_fields, &right_fields})
      for (const auto& [name, values] : *side) names.insert(name);
    for (const std::string& name : names) {
      if (left_fields[name] == right_fields[name]) continue;
      // How a script's page is framed hangs on whether it ended at once, and says nothing of the page.
      const bool is_framing = name == "transfer-encoding" ||
                              (name == "content-length" && (left_fields[name].empty() || right_fields[name].empty()));
      if (always_differs(name) || is_framing) {
        left_out.push_back(text::to_utf8(shown_name(left, right, name)));
        continue;
      }
      const auto joined = [](const std::vector<std::string>& values) {
        Json all = Json::array();
        for (const std::string& value : values) all.push_back(text::to_utf8(value));
        return all;
      };
      fields.push_back({{"name", text::to_utf8(shown_name(left, right, name))},
                        {"left", joined(left_fields[name])},
                        {"right", joined(right_fields[name])}});
    }
    is_alike = is_alike && fields.empty();
    out["fields"] = std::move(fields);
    out["fields_left_out"] = left_out.size();
    out["names_left_out"] = std::move(left_out);
    out["milliseconds"] = {{"left", left.milliseconds}, {"right", right.milliseconds}};
    const auto memory_of = [](const Side& side) {
      std::uint64_t most = 0;
      for (const Run& run : side.runs) most = std::max(most, run.peak_memory_kib);
      return most;
    };
    if (!left.runs.empty() && !right.runs.empty())
      out["peak_memory_kib"] = {{"left", memory_of(left)}, {"right", memory_of(right)}};
    bool are_runs_alike = true;
    out["runs"] = compare_runs(left, right, are_runs_alike);
    is_alike = is_alike && are_runs_alike;
  }
  out["page"] = compare_pages(left, right);
  out["alike"] = is_alike && out["page"]["alike"].get<bool>();
  return out;
}

}  // namespace porter::exchange
