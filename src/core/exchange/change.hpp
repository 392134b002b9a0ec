// A recorded request, changed before it is sent again.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "core/exchange/recorded.hpp"

namespace porter::exchange {

struct Change {
  std::string method;  ///< Empty: as it was, as is the next.
  std::string target;
  std::vector<std::pair<std::string, std::string>> fields;  ///< Each in place of those of its name.
  std::vector<std::string> without;                         ///< Names of fields that are left out.
  std::optional<std::string> body;

  bool is_empty() const { return method.empty() && target.empty() && fields.empty() && without.empty() && !body; }
};

/// The bytes of the request with `change` made in them; what is not changed stays byte by byte.
std::string changed_request(std::string_view bytes, const Change& change);

/// Whether a request of this method may be sent again without harm (RFC 9110, section 9.2.1).
bool is_safe(std::string_view method);

/// A command for curl, for any POSIX shell, that sends the request of `exchange` to where it came, and nowhere else. It
/// can be pasted into a terminal, whatever bytes the request holds. Requires that why_not_by_curl() has nothing to say.
std::string curl_command(const Recorded& exchange);
/// Why curl cannot send the request `bytes`; null: it can.
const char* why_not_by_curl(std::string_view bytes);

}  // namespace porter::exchange
