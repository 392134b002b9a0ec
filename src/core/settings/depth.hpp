// How deep TOML nests, told without reading it: the reading goes down with the text, so what nests without bound would
// take a stack without bound.
#pragma once

#include <cstddef>
#include <optional>
#include <string_view>

namespace porter {

/// What settings of this program never reach: tables in tables, lists in lists, and the parts of a dotted key.
inline constexpr std::size_t kDeepestNesting = 32;

/// A place in a text, counted from 1.
struct TextPlace {
  std::size_t line = 1;
  std::size_t column = 1;
};

/// Where `text` first nests deeper than kDeepestNesting; nullopt: it nowhere does. Strings and comments do not count;
/// of a text that is not TOML the result may be either.
std::optional<TextPlace> find_too_deep(std::string_view text);

}  // namespace porter
