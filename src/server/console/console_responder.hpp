// Who answers at the console's address: the page's own files to anybody on this computer, and the calls of the control
// interface to who has the key.
#pragma once

#include <string>
#include <string_view>

#include "server/api/api_responder.hpp"

namespace porter::server {

/// For one thread, that of the server.
class ConsoleResponder : public ApiResponder {
 public:
  using ApiResponder::ApiResponder;

  asio::awaitable<void> answer(Turn& turn) override;

  /// The port that it is served at, and the keys: that of this start, and the one before, which is good for nothing but
  /// getting this one.
  void open_with(std::uint16_t port, std::string key, std::string key_before) {
    port_ = port;
    key_ = std::move(key);
    key_before_ = std::move(key_before);
  }

 protected:
  std::vector<std::pair<std::string_view, std::string>> more_fields() const override;

 private:
  /// Whether the call that `turn` is may be made; a finding if not.
  std::optional<Finding> guard(Turn& turn, std::string_view path) const;
  asio::awaitable<void> send_file(Turn& turn, std::string_view path);

  std::uint16_t port_ = 0;
  std::string key_;
  std::string key_before_;
};

}  // namespace porter::server
