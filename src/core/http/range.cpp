// Reading the Range field. See range.hpp.
#include "core/http/range.hpp"

#include <algorithm>
#include <charconv>

#include "core/http/head.hpp"

namespace porter::http {
namespace {

// Nobody needs more; section 14.2 lets a server ignore what looks like an attack.
constexpr std::size_t kMostParts = 64;

std::optional<std::uint64_t> read_number(std::string_view text) {
  std::uint64_t number = 0;
  if (text.empty() || text.front() < '0' || text.front() > '9') return std::nullopt;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
  // A number too large to be held lies beyond every file.
  if (error == std::errc::result_out_of_range) number = UINT64_MAX;
  if (end != text.data() + text.size()) return std::nullopt;
  return number;
}

enum class Read { good, unsatisfiable, malformed };

/// Reads "first-last", "first-" or "-suffix" (section 14.1.2).
Read read_part(std::string_view text, std::uint64_t size, ByteRange& range) {
  const std::size_t dash = text.find('-');
  if (dash == text.npos) return Read::malformed;
  const std::string_view last_text = text.substr(dash + 1);
  if (dash == 0) {
    const auto suffix = read_number(last_text);
    if (!suffix) return Read::malformed;
    if (*suffix == 0 || size == 0) return Read::unsatisfiable;
    const std::uint64_t length = std::min(*suffix, size);
    range = {size - length, length};
    return Read::good;
  }
  const auto first = read_number(text.substr(0, dash));
  const auto last = last_text.empty() ? std::optional<std::uint64_t>(UINT64_MAX) : read_number(last_text);
  if (!first || !last || *last < *first) return Read::malformed;
  if (*first >= size) return Read::unsatisfiable;
  range = {*first, std::min(*last, size - 1) - *first + 1};
  return Read::good;
}

}  // namespace

std::optional<std::vector<ByteRange>> select_ranges(std::string_view value, std::uint64_t size) {
  const std::size_t equals = value.find('=');
  if (equals == value.npos || !same_name(trim(value.substr(0, equals)), "bytes")) return std::nullopt;
  value.remove_prefix(equals + 1);
  std::vector<ByteRange> ranges;
  std::size_t parts = 0;
  std::uint64_t total = 0;
  while (!value.empty()) {
    const std::size_t comma = std::min(value.find(','), value.size());
    const std::string_view part = trim(value.substr(0, comma));
    value.remove_prefix(std::min(comma + 1, value.size()));
    if (part.empty()) continue;
    if (++parts > kMostParts) return std::nullopt;
    ByteRange range{};
    const Read read = read_part(part, size, range);
    if (read == Read::malformed) return std::nullopt;
    if (read == Read::unsatisfiable) continue;
    total += range.length;
    ranges.push_back(range);
  }
  if (parts == 0 || (ranges.size() > 1 && total > size)) return std::nullopt;
  return ranges;
}

std::string content_range(ByteRange range, std::uint64_t size) {
  return "bytes " + std::to_string(range.offset) + "-" + std::to_string(range.offset + range.length - 1) + "/" +
         std::to_string(size);
}

}  // namespace porter::http
