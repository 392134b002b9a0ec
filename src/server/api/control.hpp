// The control interface: HTTP with JSON below /v1/ on a Unix socket that only its owner can open. What it answers is
// described in docs/control.openapi.yaml, and all commands of the client go through it.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <boost/asio/local/stream_protocol.hpp>
#include <memory>
#include <optional>
#include <set>
#include <string>

#include "server/api/steering.hpp"

namespace porter::server {

class Control {
 public:
  explicit Control(Steering& steering);
  ~Control();
  Control(const Control&) = delete;
  Control& operator=(const Control&) = delete;

  /// Opens the socket in the place of one that was left behind; a sentence if that fails.
  std::optional<std::string> open();
  /// Closes it and ends what is in progress.
  void close();

 private:
  class Talk;
  asio::awaitable<void> accept();

  Steering& steering_;
  asio::local::stream_protocol::acceptor acceptor_;
  std::set<Talk*> talks_;
};

}  // namespace porter::server
