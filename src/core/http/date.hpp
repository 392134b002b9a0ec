// HTTP dates (RFC 9110, section 5.6.7).
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace porter::http {

/// `seconds` since 1970 as an IMF-fixdate, "Sun, 06 Nov 1994 08:49:37 GMT".
std::string format_date(std::int64_t seconds);

/// Seconds since 1970 for a date in any of the three forms that a recipient must accept; nullopt for anything else.
/// `now` (seconds since 1970) places the two-digit year of the oldest form.
std::optional<std::int64_t> parse_date(std::string_view text, std::int64_t now);

}  // namespace porter::http
