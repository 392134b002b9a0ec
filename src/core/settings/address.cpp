// Reading and writing addresses.
#include "core/settings/address.hpp"

#include <arpa/inet.h>

#include <array>
#include <charconv>

namespace porter {
namespace {

bool is_ip(const std::string& text, int family) {
  std::array<unsigned char, sizeof(in6_addr)> bytes{};
  return ::inet_pton(family, text.c_str(), bytes.data()) == 1;
}

}  // namespace

std::string Address::text() const {
  const std::string host = reach == Reach::this_computer       ? "localhost"
                           : reach == Reach::network           ? "network"
                           : ip.find(':') == std::string::npos ? ip
                                                               : "[" + ip + "]";
  return host + ":" + std::to_string(port);
}

bool Address::is_local() const {
  return reach == Reach::this_computer || (reach == Reach::one && (ip.starts_with("127.") || ip == "::1"));
}

std::vector<Endpoint> Address::endpoints() const {
  if (reach == Reach::this_computer) return {{"127.0.0.1", port}, {"::1", port}};
  if (reach == Reach::network) return {{"0.0.0.0", port}, {"::", port}};
  return {{ip, port}};
}

std::optional<Address> parse_address(std::string_view text, AddressError& error) {
  const std::size_t colon = text.rfind(':');
  std::string_view host = colon == text.npos ? std::string_view() : text.substr(0, colon);
  const std::string_view digits = colon == text.npos ? text : text.substr(colon + 1);
  Address address;
  // Without a port, what stands behind the last colon is a part of an IPv6 address.
  if (digits.empty() || text.ends_with(']') ||
      (colon == text.npos && digits.find_first_not_of("0123456789") != digits.npos)) {
    error = AddressError::no_port;
    return std::nullopt;
  }
  unsigned port = 0;
  const auto [end, problem] = std::from_chars(digits.data(), digits.data() + digits.size(), port);
  if (problem != std::errc{} || end != digits.data() + digits.size() || port == 0 || port > 65535) {
    error = AddressError::bad_port;
    return std::nullopt;
  }
  address.port = static_cast<std::uint16_t>(port);
  if (colon == text.npos || host == "localhost") return address;
  if (host == "network") {
    address.reach = Address::Reach::network;
    return address;
  }
  address.reach = Address::Reach::one;
  const bool bracketed = host.starts_with('[') && host.ends_with(']');
  if (bracketed) host = host.substr(1, host.size() - 2);
  address.ip = host;
  if (bracketed ? !is_ip(address.ip, AF_INET6) : !is_ip(address.ip, AF_INET)) {
    error = AddressError::bad_host;
    return std::nullopt;
  }
  return address;
}

}  // namespace porter
