// Escaping, sizes and nearest names. See text.hpp.
#include "core/text/text.hpp"

#include <algorithm>
#include <array>
#include <bit>
#include <cstdio>
#include <numeric>
#include <utility>
#include <vector>

#include "core/text/ascii.hpp"

namespace porter::text {
namespace {

struct Character {
  char32_t code = 0;
  std::size_t length = 0;  ///< 0: the bytes are not UTF-8.
};

/// The character at the front of `text` (RFC 3629: no overlong forms, no surrogates, nothing above U+10FFFF).
Character first_character(std::string_view text) {
  const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(text[i]); };
  const unsigned char lead = byte(0);
  if (lead < 0x80) return {lead, 1};
  const std::size_t length = lead >= 0xf0 ? 4 : lead >= 0xe0 ? 3 : lead >= 0xc2 ? 2 : 0;
  if (length == 0 || lead > 0xf4 || text.size() < length) return {};
  char32_t code = lead & (0xffU >> (length + 1));
  for (std::size_t i = 1; i < length; ++i) {
    if ((byte(i) & 0xc0) != 0x80) return {};
    code = (code << 6) | (byte(i) & 0x3fU);
  }
  constexpr std::array<char32_t, 5> kSmallest = {0, 0, 0x80, 0x800, 0x10000};
  if (code < kSmallest[length] || code > 0x10ffff || (code >= 0xd800 && code <= 0xdfff)) return {};
  return {code, length};
}

/// True for characters that would move, hide or forge text in a line of a terminal.
bool disturbs_a_line(char32_t c) {
  return c < 0x20 || (c >= 0x7f && c <= 0x9f) || c == 0x061c || c == 0xfeff || (c >= 0x200b && c <= 0x200f) ||
         (c >= 0x2028 && c <= 0x202e) || (c >= 0x2060 && c <= 0x206f) || (c >= 0xfff9 && c <= 0xfffb);
}

void append_hex(std::string& out, std::string_view bytes) {
  for (const char c : bytes) {
    std::array<char, 8> buffer{};
    std::snprintf(buffer.data(), buffer.size(), "\\x%02x", static_cast<unsigned>(static_cast<unsigned char>(c)));
    out += buffer.data();
  }
}

/// Levenshtein's distance with the swap of two neighbours as one edit, by the usual table of three rows; `most + 1` as
/// soon as it is certain to be more than `most`. Takes as much from `work` as it fills cells of the table.
std::size_t edit_distance(std::string_view a, std::string_view b, std::size_t most, std::size_t& work) {
  std::vector<std::size_t> before(b.size() + 1);
  std::vector<std::size_t> last(b.size() + 1);
  std::vector<std::size_t> row(b.size() + 1);
  std::iota(last.begin(), last.end(), 0);
  std::size_t least_of_last = 0;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    work -= std::min(work, b.size());
    row[0] = i;
    std::size_t least = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      const std::size_t change = a[i - 1] == b[j - 1] ? 0 : 1;
      row[j] = std::min({last[j] + 1, row[j - 1] + 1, last[j - 1] + change});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1]) row[j] = std::min(row[j], before[j - 2] + 1);
      least = std::min(least, row[j]);
    }
    // A swap reaches back two rows.
    if ((least > most && least_of_last > most) || work == 0) return most + 1;
    least_of_last = least;
    std::swap(before, last);
    std::swap(last, row);
  }
  return last[b.size()];
}

/// The bytes of `text`, each as one of 64 bits: each edit changes at most one of them in either direction.
std::uint64_t letters_of(std::string_view text) {
  std::uint64_t out = 0;
  for (const char c : text) out |= std::uint64_t{1} << (static_cast<unsigned char>(c) % 64);
  return out;
}

std::size_t difference(std::size_t a, std::size_t b) { return a > b ? a - b : b - a; }

/// The length of the character at the front of `text` if it may be shown as it is, one of `fine` included; else 0.
std::size_t shown_character(std::string_view text, std::string_view fine) {
  const Character c = first_character(text);
  const bool is_fine = fine.find(text.front()) != fine.npos;
  return is_fine || (c.length > 0 && !disturbs_a_line(c.code)) ? std::max<std::size_t>(c.length, 1) : 0;
}

/// How much at the front of `text` may be shown as it is.
std::size_t printable_length(std::string_view text, std::string_view fine) {
  std::size_t length = 0;
  while (length < text.size()) {
    const std::size_t one = shown_character(text.substr(length), fine);
    if (one == 0) break;
    length += one;
  }
  return length;
}

/// How much may not.
std::size_t unprintable_length(std::string_view text, std::string_view fine) {
  std::size_t length = 0;
  while (length < text.size() && shown_character(text.substr(length), fine) == 0)
    length += std::max<std::size_t>(first_character(text.substr(length)).length, 1);
  return length;
}

/// Each byte as "\ooo".
std::string octal(std::string_view bytes) {
  std::string out;
  for (const char c : bytes) {
    const auto byte = static_cast<unsigned char>(c);
    out += '\\';
    for (const int shift : {6, 3, 0}) out += static_cast<char>('0' + (byte >> shift & 7));
  }
  return out;
}

std::string_view without_ending(std::string_view name) {
  const std::size_t dot = name.rfind('.');
  return dot == name.npos || dot == 0 ? name : name.substr(0, dot);
}

}  // namespace

std::string to_utf8(std::string_view text) {
  std::string out;
  out.reserve(text.size());
  while (!text.empty()) {
    const std::size_t length = first_character(text).length;
    if (length == 0) {
      out += "\xef\xbf\xbd";
    } else {
      out += text.substr(0, length);
    }
    text.remove_prefix(std::max<std::size_t>(length, 1));
  }
  return out;
}

bool is_utf8(std::string_view text) {
  while (!text.empty()) {
    const std::size_t length = first_character(text).length;
    if (length == 0) return false;
    text.remove_prefix(length);
  }
  return true;
}

std::size_t whole_characters(std::string_view text) {
  constexpr std::size_t kLongest = 4;
  for (std::size_t back = 1; back < kLongest && back <= text.size(); ++back) {
    const auto lead = static_cast<unsigned char>(text[text.size() - back]);
    if ((lead & 0xc0) == 0x80) continue;
    const std::size_t length = lead >= 0xf0 ? 4 : lead >= 0xe0 ? 3 : lead >= 0xc2 ? 2 : 1;
    return length > back ? text.size() - back : text.size();
  }
  return text.size();
}

std::string escape_html(std::string_view text) {
  std::string out;
  for (const char c : to_utf8(text)) {
    switch (c) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      case '\'':
        out += "&#39;";
        break;
      default:
        out += c;
    }
  }
  return out;
}

std::string escape_line(std::string_view text) {
  std::string out;
  out.reserve(text.size());
  while (!text.empty()) {
    const Character c = first_character(text);
    const std::string_view bytes = text.substr(0, std::max<std::size_t>(c.length, 1));
    if (c.length == 0 || disturbs_a_line(c.code)) {
      append_hex(out, bytes);
    } else {
      out += bytes;
    }
    text.remove_prefix(bytes.size());
  }
  return out;
}

std::string escape_lines(std::string_view text, std::string_view indent) {
  std::string out;
  for (bool is_first = true; is_first || !text.empty(); is_first = false) {
    const std::string_view line = text.substr(0, text.find('\n'));
    text.remove_prefix(std::min(line.size() + 1, text.size()));
    if (!is_first) (out += '\n') += indent;
    out += escape_line(line);
  }
  return out;
}

std::string show_line(std::string_view line) {
  std::string spaced;
  for (const char c : line) spaced.append(c == '\t' ? 4 : 1, c == '\t' ? ' ' : c);
  return escape_line(spaced);
}

namespace {

/// The columns that `text` takes up: a character one, a code of colour none.
std::size_t columns_of(std::string_view text) {
  std::size_t columns = 0;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '\x1b') {
      i = std::min(text.find('m', i), text.size());
    } else if ((static_cast<unsigned char>(text[i]) & 0xc0) != 0x80) {
      ++columns;
    }
  }
  return columns;
}

void wrap_line(std::string& out, std::string_view line, std::size_t width, std::size_t indent) {
  std::size_t used = 0;
  bool is_bare = true;  // Nothing but spaces stands in this line of `out` yet.
  while (!line.empty()) {
    // A word with the spaces before it.
    const std::size_t begin = std::min(line.find_first_not_of(' '), line.size());
    const std::size_t end = std::min(line.find(' ', begin), line.size());
    const std::size_t columns = columns_of(line.substr(0, end));
    if (!is_bare && used + columns > width) {
      (out += '\n').append(indent, ' ');
      out += line.substr(begin, end - begin);
      used = indent + columns - begin;
    } else {
      out += line.substr(0, end);
      used += columns;
    }
    is_bare = false;
    line.remove_prefix(end);
  }
}

}  // namespace

std::string wrap(std::string_view lines, std::size_t width, std::size_t indent) {
  if (width <= indent) return std::string(lines);
  std::string out;
  while (!lines.empty()) {
    const std::size_t end = std::min(lines.find('\n'), lines.size());
    wrap_line(out, lines.substr(0, end), width, indent);
    if (end < lines.size()) out += '\n';
    lines.remove_prefix(std::min(end + 1, lines.size()));
  }
  return out;
}

std::vector<std::string_view> parts_of(std::string_view text, char separator) {
  std::vector<std::string_view> parts;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find(separator), text.size());
    if (end > 0) parts.push_back(text.substr(0, end));
    text.remove_prefix(std::min(end + 1, text.size()));
  }
  return parts;
}

std::string shell_word(std::string_view word) {
  const auto plain = [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
           std::string_view("%+,-./:=@_").find(c) != std::string_view::npos;
  };
  if (!word.empty() && std::all_of(word.begin(), word.end(), plain)) return std::string(word);
  // What has single quotes is typed between double ones, where nothing in it means anything there.
  const auto fits_double = [](char c) {
    return c >= ' ' && c <= '~' && std::string_view("\"$`\\!").find(c) == std::string_view::npos;
  };
  if (word.find('\'') != word.npos && std::all_of(word.begin(), word.end(), fits_double))
    return '"' + std::string(word) + '"';
  std::string out;
  // Runs of what may stand within quotes, and of what may not, take turns.
  for (bool is_first = true; is_first || !word.empty(); is_first = false) {
    const std::size_t shown = printable_length(word, "\n");
    if (shown > 0 || word.empty()) {
      out += '\'';
      for (const char c : word.substr(0, shown)) out += c == '\'' ? std::string("'\\''") : std::string(1, c);
      out += '\'';
      word.remove_prefix(shown);
    }
    const std::size_t hidden = unprintable_length(word, "\n");
    if (hidden > 0) out += "\"$(printf '" + octal(word.substr(0, hidden)) + "')\"";
    word.remove_prefix(hidden);
  }
  return out;
}

std::string printf_format(std::string_view bytes) {
  std::string out = "'";
  // A format that begins with a dash is an option to some shells.
  if (bytes.starts_with('-')) {
    out += octal(bytes.substr(0, 1));
    bytes.remove_prefix(1);
  }
  while (!bytes.empty()) {
    const std::size_t shown = printable_length(bytes, "");
    for (const char c : bytes.substr(0, shown))
      out += c == '\'' ? std::string("'\\''") : c == '%' ? "%%" : c == '\\' ? "\\\\" : std::string(1, c);
    bytes.remove_prefix(shown);
    const std::size_t hidden = unprintable_length(bytes, "");
    for (const char c : bytes.substr(0, hidden)) out += c == '\n' ? "\\n" : octal({&c, 1});
    bytes.remove_prefix(hidden);
  }
  return out + "'";
}

std::string format_size(std::uint64_t bytes) {
  constexpr std::uint64_t kStep = 1024;
  if (bytes < kStep) return std::to_string(bytes) + " B";
  constexpr std::array<const char*, 6> kUnits = {" KiB", " MiB", " GiB", " TiB", " PiB", " EiB"};
  const auto tenths_of = [bytes](std::uint64_t one) { return bytes / one * 10 + (bytes % one * 10 + one / 2) / one; };
  std::size_t unit = 0;
  std::uint64_t one = kStep;
  // What would be shown as 1024.0 is shown by the next unit.
  for (; tenths_of(one) >= 10 * kStep && unit + 1 < kUnits.size(); one *= kStep) ++unit;
  const std::uint64_t tenths = tenths_of(one);
  return std::to_string(tenths / 10) + '.' + static_cast<char>('0' + tenths % 10) + kUnits[unit];
}

std::string format_limit(std::uint64_t bytes) {
  constexpr std::array<std::pair<const char*, unsigned>, 4> kUnits = {
      {{"TiB", 40}, {"GiB", 30}, {"MiB", 20}, {"KiB", 10}}};
  for (const auto& [name, shift] : kUnits)
    if (bytes >= (std::uint64_t{1} << shift) && bytes % (std::uint64_t{1} << shift) == 0)
      return std::to_string(bytes >> shift) + " " + name;
  return std::to_string(bytes) + " B";
}

std::string format_span(std::chrono::seconds span) {
  constexpr long long kMinute = 60;
  constexpr long long kHour = 60 * kMinute;
  constexpr long long kDay = 24 * kHour;
  const long long seconds = std::max<long long>(span.count(), 0);
  if (seconds < kMinute) return std::to_string(seconds) + " s";
  if (seconds < kHour) return std::to_string(seconds / kMinute) + " min";
  if (seconds >= kDay) return std::to_string(seconds / kDay) + (seconds < 2 * kDay ? " day" : " days");
  return std::to_string(seconds / kHour) + " h " + std::to_string(seconds % kHour / kMinute) + " min";
}

std::string format_time(std::chrono::system_clock::time_point time) {
  const auto millis = std::chrono::floor<std::chrono::milliseconds>(time.time_since_epoch()).count();
  const std::time_t seconds = millis / 1000;
  std::tm parts{};
  ::gmtime_r(&seconds, &parts);
  std::array<char, 64> text{};
  const int length = std::snprintf(text.data(), text.size(), "%04d-%02d-%02dT%02d:%02d:%02d.%03dZ",
                                   parts.tm_year + 1900, parts.tm_mon + 1, parts.tm_mday, parts.tm_hour, parts.tm_min,
                                   parts.tm_sec, static_cast<int>(millis % 1000));
  return {text.data(), static_cast<std::size_t>(length)};
}

std::string to_lower(std::string_view text) {
  std::string out(text);
  for (char& c : out) c = ascii_lower(c);
  return out;
}

bool contains(std::span<const std::string> all, std::string_view text) {
  return std::find(all.begin(), all.end(), text) != all.end();
}

std::string listed(std::span<const std::string> names) {
  std::string out;
  for (const std::string& name : names) out += (out.empty() ? "" : ", ") + name;
  return out;
}

NearestName::NearestName(std::string_view wanted)
    : wanted_(wanted.size() > 255 ? std::string_view() : wanted),
      lower_(to_lower(wanted_)),
      stem_(without_ending(lower_)),
      letters_(letters_of(lower_)),
      // Half steps: an equal stem with another ending beats one edit, since forgetting the ending is the likelier slip.
      best_score_(2 * std::max<std::size_t>(1, lower_.size() / 3) + 1) {}

void NearestName::consider(std::string_view name) {
  if (wanted_.empty() || name.size() > 255 || name == wanted_ || is_exhausted()) return;
  --work_left_;
  const std::string have = to_lower(name);
  std::size_t score = best_score_ + 1;
  if (!stem_.empty() && without_ending(have) == stem_) score = 1;
  // Whatever needs more edits than the best so far is passed over, and mostly that shows at a glance.
  const std::size_t most = best_score_ / 2;
  const std::uint64_t letters = letters_of(have);
  const auto missing =
      static_cast<std::size_t>(std::max(std::popcount(letters_ & ~letters), std::popcount(letters & ~letters_)));
  if (difference(have.size(), lower_.size()) <= most && missing <= most)
    score = std::min(score, 2 * edit_distance(lower_, have, most, work_left_));
  if (score < best_score_ || (score == best_score_ && best_ && name < *best_)) {
    best_score_ = score;
    best_ = std::string(name);
  }
}

std::optional<std::string> nearest(std::string_view wanted, std::span<const std::string> names) {
  NearestName nearest(wanted);
  for (const std::string& name : names) nearest.consider(name);
  return nearest.best();
}

std::string short_name(std::string_view text) {
  std::uint64_t hash = 14695981039346656037ULL;
  for (const char c : text) hash = (hash ^ static_cast<unsigned char>(c)) * 1099511628211ULL;
  constexpr std::string_view kDigits = "0123456789abcdef";
  std::string out;
  for (int shift = 60; shift >= 0; shift -= 4) out += kDigits[(hash >> shift) & 15];
  return out;
}

}  // namespace porter::text
