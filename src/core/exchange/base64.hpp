// Base64 (RFC 4648, section 4), for bytes in JSON.
#pragma once

#include <optional>
#include <string>
#include <string_view>

namespace porter::exchange {

std::string to_base64(std::string_view bytes);
/// nullopt: it is not base64.
std::optional<std::string> from_base64(std::string_view text);

}  // namespace porter::exchange
