// Addresses to listen on, as settings write them: "localhost:8080", "network:8080", "192.168.7.2:80", "[::1]:8080".
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace porter {

/// One socket's worth of an address.
struct Endpoint {
  std::string ip;  ///< "127.0.0.1", "::1", "0.0.0.0", "::".
  std::uint16_t port = 0;
  bool is_v6() const { return ip.find(':') != std::string::npos; }
  bool operator==(const Endpoint&) const = default;
};

struct Address {
  enum class Reach {
    this_computer,  ///< "localhost": the loopback addresses of both families.
    network,        ///< "network": every address of the machine.
    one,            ///< An IP address.
  } reach = Reach::this_computer;
  std::string ip;          ///< Of Reach::one.
  std::uint16_t port = 0;  ///< 0 (any free port) cannot be written in settings.

  bool operator==(const Address&) const = default;
  /// "localhost:8080".
  std::string text() const;
  /// Only this computer can reach it.
  bool is_local() const;
  /// The sockets to open: IPv4 first.
  std::vector<Endpoint> endpoints() const;
};

/// Why a text is no address.
enum class AddressError { no_port, bad_port, bad_host };

/// Reads "HOST:PORT" or "PORT" alone, which means this computer.
std::optional<Address> parse_address(std::string_view text, AddressError& error);

}  // namespace porter
