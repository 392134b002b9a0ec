// What the server knows of a request while it answers it.
#pragma once

#include <chrono>
#include <cstdint>
#include <optional>
#include <string>

#include "core/http/body.hpp"
#include "core/http/head.hpp"
#include "core/http/host.hpp"
#include "core/http/target.hpp"

namespace porter::server {

/// The two ends of a connection.
struct Peer {
  std::string client_address;
  std::uint16_t client_port = 0;
  std::string server_address;
  std::uint16_t server_port = 0;
  bool is_this_computer = false;  ///< The client runs on the same machine.
};

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

/// What is told of the answer in the log.
struct Answered {
  std::chrono::system_clock::time_point time;
  std::chrono::steady_clock::time_point begun;
  int status = 0;
  std::uint64_t body_bytes = 0;
  std::string by;
  // For the access log alone, and empty without one.
  int minor_version = 1;
  std::string host{};
  std::string referrer{};
  std::string user_agent{};
};

}  // namespace porter::server
