// The console: a page in the browser by which the server is controlled, at an address of its own that only this
// computer can reach. Its calls are those of the control interface.
#pragma once

#include <atomic>
#include <boost/asio/awaitable.hpp>
#include <optional>
#include <string>

#include "core/findings/finding.hpp"
#include "machine/instance.hpp"
#include "server/console/console_responder.hpp"
#include "server/listen/listeners.hpp"
#include "server/worker.hpp"

namespace porter::server {

/// For the server's own thread.
class Console {
 public:
  /// For the calls of `api`; it, `server` and `instance` must outlive this.
  Console(Server& server, Api& api, const machine::Instance& instance);
  Console(const Console&) = delete;
  Console& operator=(const Console&) = delete;

  /// Serves at `wanted`, or at the next lower port that is free; nullopt: nowhere. A finding if that fails; then it is
  /// served where it was.
  std::optional<Finding> serve_at(const std::optional<Address>& wanted);
  /// Its URL with the key; empty: it is not served.
  std::string url() const;
  /// A sentence if it is served elsewhere than was wanted; else empty.
  const std::string& instead_of() const { return instead_of_; }
  /// Ends it, and what is in progress.
  void close();

 private:
  void take(int socket);
  void write_key() const;

  Server& server_;
  const machine::Instance& instance_;
  const std::string key_;
  const std::string key_before_;
  std::optional<Address> wanted_;
  std::optional<Address> served_;
  std::string instead_of_;
  ConsoleResponder responder_;
  std::atomic<std::size_t> connections_{0};
  Worker worker_;
  Listeners listeners_;
};

}  // namespace porter::server
