// A request as it is answered: its head, and what the steps on the way have read from that.
#pragma once

#include <optional>

#include "core/http/body.hpp"
#include "core/http/head.hpp"
#include "core/http/host.hpp"
#include "core/http/target.hpp"

namespace porter::server {

/// A request whose head has been read and found to be well-formed.
struct Request {
  http::RequestHead head;  ///< Its views point into the connection's bytes.
  http::Target target;
  http::BodyFraming framing;
  std::optional<http::FramingError> framing_error;  ///< Set: where the body ends cannot be known.
  http::Host host;                                  ///< Empty name: none was given (HTTP/1.0).

  bool is_head() const { return head.method == "HEAD"; }
  bool has_body() const { return framing.kind == http::BodyFraming::Kind::chunked || framing.length > 0; }
};

}  // namespace porter::server
