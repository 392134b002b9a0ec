// Status codes and their reason phrases (RFC 9110, section 15).
#pragma once

#include <string_view>

namespace porter::http {

/// The reason phrase of `status`; "Unassigned" for one without.
std::string_view reason_phrase(int status);

/// True for a response that never has a body, whatever its fields say (RFC 9112, section 6.3).
constexpr bool has_no_body(int status) { return status < 200 || status == 204 || status == 304; }

}  // namespace porter::http
