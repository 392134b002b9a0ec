// Byte ranges (RFC 9110, section 14): which parts of a representation a request asks for.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace porter::http {

/// `length` bytes from `offset`; never empty.
struct ByteRange {
  std::uint64_t offset;
  std::uint64_t length;
};

/// The parts of a representation of `size` bytes that the Range field `value` selects, in the order asked for.
/// nullopt: the field must be ignored (another unit, malformed, too many parts, or parts that overlap so much that they
/// are more than the whole). Empty: none can be satisfied (416).
std::optional<std::vector<ByteRange>> select_ranges(std::string_view value, std::uint64_t size);

/// The value of Content-Range for `range` of `size` bytes, such as "bytes 0-499/10000" (section 14.4).
std::string content_range(ByteRange range, std::uint64_t size);

}  // namespace porter::http
