// Conditional requests (RFC 9110, section 13): whether what the client has is still what the server has.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "core/http/head.hpp"

namespace porter::http {

/// What identifies the state of a representation.
struct Validators {
  std::string etag;           ///< With its quotes; "W/" before them if it is weak.
  std::int64_t modified = 0;  ///< Seconds since 1970.
};

enum class Verdict {
  proceed,
  not_modified,        ///< 304
  precondition_failed  ///< 412
};

/// Evaluates If-Match, If-Unmodified-Since, If-None-Match and If-Modified-Since in the order of section 13.2.2.
/// `now` is in seconds since 1970.
Verdict evaluate_conditions(const RequestHead& head, const Validators& validators, std::int64_t now);

/// False if If-Range says that the Range field is to be ignored, since the client has parts of another state
/// (section 13.1.5).
bool range_applies(const RequestHead& head, const Validators& validators, std::int64_t now);

/// True if the Accept-Encoding field `value` lets a response come in `coding` (section 12.5.3). Without the field, none
/// is.
bool accepts_coding(std::string_view value, std::string_view coding);

}  // namespace porter::http
