// How deep TOML nests, told without reading it: the reading goes down with the text, so what nests without bound would
// take a stack without bound.
#pragma once

#include <cstddef>
#include <optional>
#include <string_view>

#include "core/text/nesting.hpp"

namespace porter {

/// A place in a text, counted from 1.
struct TextPlace {
  std::size_t line = 1;
  std::size_t column = 1;
};

/// Where `text` first nests deeper than kDeepestNesting (tables in tables, lists in lists, the parts of a dotted key);
/// nullopt: it nowhere does. Strings and comments do not count;
/// of a text that is not TOML the result may be either.
std::optional<TextPlace> find_too_deep(std::string_view text);

}  // namespace porter
