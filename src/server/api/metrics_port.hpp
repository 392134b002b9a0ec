// The figures for a monitor, at an address of their own that only this computer can reach: GET /metrics, without a key.
#pragma once

#include <atomic>
#include <optional>

#include "core/findings/finding.hpp"
#include "server/api/api_responder.hpp"
#include "server/listen/listeners.hpp"
#include "server/worker.hpp"

namespace porter::server {

/// Answers /metrics, and nothing else.
class MetricsResponder : public ApiResponder {
 public:
  explicit MetricsResponder(Api& api) : ApiResponder(api) {}
  /// The port that the Host field has to name.
  void open_at(std::uint16_t port) { port_ = port; }
  asio::awaitable<void> answer(Turn& turn) override;

 private:
  std::uint16_t port_ = 0;
};

/// For the server's own thread.
class MetricsPort {
 public:
  /// `server` and `api` must outlive it.
  MetricsPort(Server& server, Api& api);
  MetricsPort(const MetricsPort&) = delete;
  MetricsPort& operator=(const MetricsPort&) = delete;

  /// Serves at `wanted`; nullopt: nowhere. A finding if that fails; then it is served where it was.
  std::optional<Finding> serve_at(const std::optional<Address>& wanted);
  /// Ends it, and what is in progress.
  void close();

 private:
  void take(int socket);

  MetricsResponder responder_;
  std::optional<Address> served_;
  std::atomic<std::size_t> connections_{0};
  Worker worker_;
  Listeners listeners_;
};

}  // namespace porter::server
