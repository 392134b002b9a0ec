// Small transformations of text that outputs share: escaping for each place text can go to, sizes, nearest names.
#pragma once

#include <chrono>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace porter::text {

/// `text` for HTML content and quoted attributes. Bytes that are not UTF-8 become U+FFFD.
std::string escape_html(std::string_view text);

/// `text` fit for one line of a terminal or a log: control characters, line and paragraph separators, characters that
/// change the writing direction, and bytes that are not UTF-8 are written as \xNN.
std::string escape_line(std::string_view text);

/// As escape_line(), for a text that may have several lines: those behind the first are indented by `indent`.
std::string escape_lines(std::string_view text, std::string_view indent);

/// As escape_line(), for a line of a source or of an error stream: tabs indent, so four spaces stand for each.
std::string show_line(std::string_view line);

/// What stands between the separators, empty parts left out. The views are into `text`.
std::vector<std::string_view> parts_of(std::string_view text, char separator);

/// `text` with every byte that is not part of well-formed UTF-8 replaced by U+FFFD.
std::string to_utf8(std::string_view text);

bool is_utf8(std::string_view text);

/// How much of `text` ends with a whole character: all of it, but for a character in UTF-8 that is cut off at its end.
std::size_t whole_characters(std::string_view text);

/// `word` as one word of a POSIX shell, quoted only where it must be. What would do something to a terminal into which
/// it is pasted (control characters, those that escape_line() escapes, bytes that are not UTF-8) is written by
/// printf(1); line feeds stay, as they do nothing within quotes.
std::string shell_word(std::string_view word);

/// `bytes` as the format of printf(1), quoted, so that it prints just these.
std::string printf_format(std::string_view bytes);

/// `lines` with those that are wider than `width` columns broken at spaces, where there are some, and what follows
/// indented. Codes of colour take no column, and a word that is too wide stays whole. Width 0: as they are.
std::string wrap(std::string_view lines, std::size_t width, std::size_t indent);

/// A size for people: "0 B", "812 B", "4.1 KiB", "3.0 MiB" (powers of 1,024).
std::string format_size(std::uint64_t bytes);

/// A limit, in the units that settings take: "4 GiB", "1536 MiB", "1000 B".
std::string format_limit(std::uint64_t bytes);

/// A span of time for people: "3 s", "12 min", "2 h 5 min", "4 days".
std::string format_span(std::chrono::seconds span);

/// "2026-03-01T07:40:00.125Z" (RFC 3339).
std::string format_time(std::chrono::system_clock::time_point time);

/// ASCII letters in lower case, all else as it is.
std::string to_lower(std::string_view text);

/// True if `text` is one of `all`.
bool contains(std::span<const std::string> all, std::string_view text);

/// "one, two, three".
std::string listed(std::span<const std::string> names);

/// Looks among names, one after the other, for the one that `wanted` was most likely meant to be: equal but for case,
/// with another ending, or a few edits away. Among equals the first in the order of bytes wins.
///
/// It takes a bounded amount of work, however many and however long the names are.
class NearestName {
 public:
  explicit NearestName(std::string_view wanted);

  void consider(std::string_view name);
  /// True once no more work may be spent; further names are not looked at.
  bool is_exhausted() const { return work_left_ == 0; }
  /// The nearest of those that were considered; nullopt if none is near.
  const std::optional<std::string>& best() const { return best_; }

 private:
  const std::string wanted_;
  const std::string lower_;            ///< In lower case.
  const std::string_view stem_;        ///< Of lower_, without its ending.
  const std::uint64_t letters_;        ///< Of lower_, a bit for each.
  std::size_t best_score_;             ///< In half steps; what is not below it is not near.
  std::size_t work_left_ = 1'500'000;  ///< In cells of the table of edits, some nanoseconds each.
  std::optional<std::string> best_;
};

/// The same for names that are all at hand.
std::optional<std::string> nearest(std::string_view wanted, std::span<const std::string> names);

/// Sixteen digits that are others for every other text, as far as nobody looks for two alike (FNV-1a).
std::string short_name(std::string_view text);

}  // namespace porter::text
