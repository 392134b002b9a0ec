// Carrying calls of the control interface over connections, as any request is: whatever a connection can do for a site,
// it can do for these.
#pragma once

#include "server/api/api.hpp"
#include "server/connection/responder.hpp"

namespace porter::server {

class ApiResponder : public Responder {
 public:
  /// `api` must outlive it. Its connections must be served by the thread of the api's server.
  explicit ApiResponder(Api& api) : api_(api) {}

  asio::awaitable<void> answer(Turn& turn) override;
  asio::awaitable<void> refuse(Turn& turn, Finding finding) override;
  std::optional<ReadyResponse> find_ready(Turn&) override { return std::nullopt; }
  /// What is said here is no part of what the sites response.
  bool is_recorded() const override { return false; }

 protected:
  /// Fields that every reply has besides its own.
  virtual std::vector<std::pair<std::string_view, std::string>> more_fields() const { return {}; }
  asio::awaitable<void> send(Turn& turn, Reply reply) const;
  /// What is wrong with the Host of a request to a `port` of this computer alone: a page from elsewhere whose name
  /// leads here must not use what is at `path`. nullopt: nothing.
  static std::optional<Finding> foreign_host(const http::RequestHead& head, std::uint16_t port, std::string_view path);

 private:
  Api& api_;
};

}  // namespace porter::server
