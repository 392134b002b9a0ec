// One pass over the text: brackets are counted, and so are the dots between the parts of one key. See depth.hpp.
#include "core/settings/depth.hpp"

#include <algorithm>

namespace porter {
namespace {

/// The length of the string that `text` begins with, its quotes included; all of the line where it has no end.
std::size_t string_length(std::string_view text) {
  const char quote = text.front();
  const bool is_basic = quote == '"';
  const std::string_view three = is_basic ? "\"\"\"" : "'''";
  const bool is_long = text.starts_with(three);
  std::size_t at = is_long ? 3 : 1;
  while (at < text.size()) {
    if (is_basic && text[at] == '\\') {
      at += 2;
    } else if (is_long ? text.substr(at).starts_with(three) : text[at] == quote) {
      return at + (is_long ? 3 : 1);
    } else if (!is_long && text[at] == '\n') {
      return at;
    } else {
      ++at;
    }
  }
  return text.size();
}

bool continues_a_key(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' || c == '-' ||
         c == ' ' || c == '\t';
}

}  // namespace

std::optional<TextPlace> find_too_deep(std::string_view text) {
  std::size_t nesting = 0;
  std::size_t dots = 0;
  for (std::size_t at = 0; at < text.size(); ++at) {
    const char c = text[at];
    if (c == '"' || c == '\'') {
      at += string_length(text.substr(at)) - 1;  // A quoted part of a key: the dots before it still count.
    } else if (c == '#') {
      at = std::min(text.find('\n', at), text.size()) - 1;
    } else if (c == '.') {
      ++dots;
    } else if (c == '[' || c == '{') {
      ++nesting;
      dots = 0;
    } else if (c == ']' || c == '}') {
      nesting -= std::min<std::size_t>(nesting, 1);
      dots = 0;
    } else if (!continues_a_key(c)) {
      dots = 0;
    }
    if (nesting <= kDeepestNesting && dots <= kDeepestNesting) continue;
    const std::string_view before = text.substr(0, std::min(at, text.size()));
    const auto line = static_cast<std::size_t>(std::count(before.begin(), before.end(), '\n'));
    return TextPlace{line + 1, before.size() - (before.rfind('\n') + 1) + 1};
  }
  return std::nullopt;
}

}  // namespace porter
