// Recorded exchanges as JSON, alike wherever they are shown to programs (docs/control.openapi.yaml).
#pragma once

#include <nlohmann/json_fwd.hpp>

#include "core/exchange/recorded.hpp"

namespace porter::exchange {

/// What a list tells of an exchange.
nlohmann::json row_of(const Recorded& exchange);
/// All that is known of it but its bodies.
nlohmann::json json_of(const Recorded& exchange);

}  // namespace porter::exchange
