// The JSON library's templates, for builds that compile them once. See json.hpp.
#ifdef PORTER_JSON_COMPILED_ONCE
#include "core/text/json.hpp"

template class nlohmann::basic_json<>;
template class nlohmann::detail::serializer<nlohmann::json>;
template class nlohmann::detail::parser<nlohmann::json,
                                        nlohmann::detail::iterator_input_adapter<std::string::const_iterator>>;
template class nlohmann::detail::lexer<nlohmann::json,
                                       nlohmann::detail::iterator_input_adapter<std::string::const_iterator>>;
#endif
