// Who answers the requests of a connection: the sites, or the control interface.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <optional>

#include "core/findings/finding.hpp"
#include "server/response/writer.hpp"

namespace porter::server {

class Turn;

/// It outlives all connections, and is called from each of their threads.
class Responder {
 public:
  virtual ~Responder() = default;

  /// Answers the request of `turn`, whose head and framing have been read.
  virtual asio::awaitable<void> answer(Turn& turn) = 0;
  /// Answers a request whose head could not be read.
  virtual asio::awaitable<void> refuse(Turn& turn, Finding finding) = 0;
  /// A response that lies ready for the request of `turn`, of which nothing but the head has been looked at.
  virtual std::optional<ReadyResponse> find_ready(Turn& turn) = 0;
  /// Whether exchanges go to the journal and the access log.
  virtual bool is_recorded() const = 0;
};

}  // namespace porter::server
