// Small transformations of text that outputs share: escaping for each place text can go to, sizes, nearest names.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>

namespace porter::text {

/// `text` for HTML content and quoted attributes. Bytes that are not UTF-8 become U+FFFD.
std::string escape_html(std::string_view text);

/// `text` fit for one line of a terminal or a log: control characters, line and paragraph separators, characters that
/// change the writing direction, and bytes that are not UTF-8 are written as \xNN, a backslash as \\.
std::string escape_line(std::string_view text);

/// `text` with every byte that is not part of well-formed UTF-8 replaced by U+FFFD.
std::string to_utf8(std::string_view text);

/// `word` as one word of a POSIX shell, quoted only where it must be.
std::string shell_word(std::string_view word);

/// A size for people: "0 B", "812 B", "4.1 KB", "3.0 MB" (powers of 1,000).
std::string format_size(std::uint64_t bytes);

/// ASCII letters in lower case, all else as it is.
std::string to_lower(std::string_view text);

/// "one, two, three".
std::string listed(std::span<const std::string> names);

/// The name in `names` that `wanted` was most likely meant to be: equal but for case, or a few edits away; nullopt if
/// none is near.
std::optional<std::string> nearest(std::string_view wanted, std::span<const std::string> names);

}  // namespace porter::text
