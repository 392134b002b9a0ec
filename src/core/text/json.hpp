// JSON, read and written safely. What comes from outside may nest without bound, and hold bytes that are not UTF-8;
// the library follows the one down its own stack and throws at the other.
//
// Where sanitizers are on, its large templates are compiled once, in json.cpp and without them, and not in each file
// that uses it: that was a tenth of the build.
#pragma once

#include <nlohmann/json.hpp>
#include <string>
#include <string_view>

#include "core/text/nesting.hpp"

namespace porter {

/// The value that `text` stands for; a discarded one if that is not JSON, or nests deeper than kDeepestNesting.
nlohmann::json parse_json(std::string_view text);

/// `json` as text, with `indent` spaces for each level; -1: in one line. The one place where JSON leaves the program:
/// bytes that are not UTF-8 (in the name of a file, say) become U+FFFD here.
std::string json_text(const nlohmann::json& json, int indent = -1);

}  // namespace porter

#ifdef PORTER_JSON_COMPILED_ONCE
extern template class nlohmann::basic_json<>;
extern template class nlohmann::detail::serializer<nlohmann::json>;
#endif
