// The JSON library. Where sanitizers are on, its large templates are compiled once, in json.cpp and without them, and
// not in each file that uses it: that was a tenth of the build.
#pragma once

#include <nlohmann/json.hpp>

#ifdef PORTER_JSON_COMPILED_ONCE
extern template class nlohmann::basic_json<>;
extern template class nlohmann::detail::serializer<nlohmann::json>;
extern template class nlohmann::detail::parser<nlohmann::json,
                                               nlohmann::detail::iterator_input_adapter<std::string::const_iterator>>;
extern template class nlohmann::detail::lexer<nlohmann::json,
                                              nlohmann::detail::iterator_input_adapter<std::string::const_iterator>>;
#endif
