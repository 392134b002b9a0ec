// Exchanges as they are shown to people in a terminal.
#pragma once

#include <map>
#include <string>
#include <string_view>

#include "core/text/json.hpp"

namespace porter::client {

/// One line of a list, fitted to `width` columns; 0: as long as it is. What lies below one of `roots` is told from
/// there on.
std::string line_of(const nlohmann::json& row, std::size_t width, const std::map<std::string, std::string>& roots);

/// The whole of an exchange. `request` and `response` are the bytes that are kept.
std::string view_of(const nlohmann::json& exchange, std::string_view request, std::string_view response);

/// What differs, as the control interface tells it.
std::string view_of_difference(const nlohmann::json& difference);

}  // namespace porter::client
