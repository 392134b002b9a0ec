// See json.hpp.
#include "core/text/json.hpp"

#ifdef PORTER_JSON_COMPILED_ONCE
template class nlohmann::basic_json<>;
template class nlohmann::detail::serializer<nlohmann::json>;
#endif

namespace porter {
namespace {

/// One pass over the text: brackets outside of strings are counted. Of a text that is not JSON the result may be
/// either.
bool nests_too_deep(std::string_view text) {
  std::size_t depth = 0;
  bool is_in_string = false;
  for (std::size_t at = 0; at < text.size(); ++at) {
    const char c = text[at];
    if (is_in_string) {
      if (c == '\\') ++at;
      if (c == '"') is_in_string = false;
    } else if (c == '"') {
      is_in_string = true;
    } else if (c == '[' || c == '{') {
      if (++depth > kDeepestNesting) return true;
    } else if ((c == ']' || c == '}') && depth > 0) {
      --depth;
    }
  }
  return false;
}

}  // namespace

nlohmann::json parse_json(std::string_view text) {
  if (nests_too_deep(text)) return nlohmann::json::value_t::discarded;
  return nlohmann::json::parse(text, nullptr, false);
}

std::string json_text(const nlohmann::json& json, int indent) {
  return json.dump(indent, ' ', false, nlohmann::json::error_handler_t::replace);
}

}  // namespace porter
