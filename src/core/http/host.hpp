// The Host field (RFC 9110, section 7.2; RFC 3986, section 3.2.2): who a request says it wants to speak to.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace porter::http {

struct Host {
  std::string name;                   ///< Lower case, without a final dot; an IPv6 address without its brackets.
  std::optional<std::uint16_t> port;  ///< The port, where one was written.
  bool is_ip = false;                 ///< An IPv4 or IPv6 address instead of a name.
};

/// Reads "name", "name:port", "1.2.3.4:port" or "[::1]:port"; nullopt if it is none of these.
std::optional<Host> parse_host(std::string_view value);

/// True if a Host field of this `value` names this computer and `port`: localhost, 127.0.0.1 or [::1].
bool is_loopback_host(std::string_view value, std::uint16_t port);

/// True for names that mean this machine by themselves (RFC 6761, section 6.3): "localhost" and all names below it.
bool is_localhost_name(std::string_view name);

}  // namespace porter::http
