// The control socket: a Unix socket that only its owner can open, by which the control interface is reached. All
// commands of the client go through it.
#pragma once

#include <atomic>
#include <boost/asio/awaitable.hpp>
#include <boost/asio/local/stream_protocol.hpp>
#include <optional>
#include <string>

#include "core/findings/finding.hpp"
#include "server/api/api_responder.hpp"
#include "server/worker.hpp"

namespace porter::server {

/// open() once; close() before the server's thread ends. For that thread.
class ControlSocket {
 public:
  /// At `path`, for the calls of `api`. Both the api and `server` must outlive it.
  ControlSocket(Server& server, Api& api, std::string path);
  ~ControlSocket();
  ControlSocket(const ControlSocket&) = delete;
  ControlSocket& operator=(const ControlSocket&) = delete;

  /// Opens the socket in the place of one that was left behind. Requires that the lock of the instance is held. A
  /// finding if that fails.
  std::optional<Finding> open();
  /// Closes it and ends what is in progress.
  void close();

 private:
  asio::awaitable<void> accept();

  Server& server_;
  Api& api_;
  const std::string path_;
  ApiResponder responder_;
  std::atomic<std::size_t> connections_{0};
  Worker worker_;  ///< On the server's own thread.
  asio::local::stream_protocol::acceptor acceptor_;
  bool is_closed_ = false;
};

}  // namespace porter::server
