// Reading the Host field. See host.hpp.
#include "core/http/host.hpp"

#include <arpa/inet.h>

#include <charconv>

#include "core/text/ascii.hpp"

namespace porter::http {
namespace {

bool is_ip_address(int family, const std::string& text) {
  // Of a name it can be told at a glance.
  if (family == AF_INET && (text.empty() || text.front() < '0' || text.front() > '9')) return false;
  in6_addr unused{};
  return inet_pton(family, text.c_str(), &unused) == 1;
}

/// Letters, digits, hyphens, underscores and dots, with no empty label: stricter than RFC 3986 and true for any name in
/// use. What else that grammar allows there has only ever served to confuse readers.
bool is_host_name(std::string_view name) {
  if (name.empty() || name.size() > 253 || name.front() == '.' || name.find("..") != name.npos) return false;
  for (const char c : name) {
    const bool good = (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-' || c == '_' || c == '.';
    if (!good) return false;
  }
  return true;
}

}  // namespace

std::optional<Host> parse_host(std::string_view value) {
  Host host;
  std::string_view port;
  bool has_port = false;
  if (!value.empty() && value.front() == '[') {
    const std::size_t end = value.find(']');
    if (end == value.npos) return std::nullopt;
    host.name = std::string(value.substr(1, end - 1));
    if (!is_ip_address(AF_INET6, host.name)) return std::nullopt;
    host.is_ip = true;
    std::string_view rest = value.substr(end + 1);
    if (!rest.empty()) {
      if (rest.front() != ':') return std::nullopt;
      has_port = true;
      port = rest.substr(1);
    }
  } else {
    const std::size_t colon = value.find(':');
    has_port = colon != value.npos;
    if (has_port) port = value.substr(colon + 1);
    host.name = std::string(value.substr(0, colon));
    for (char& c : host.name) c = text::ascii_lower(c);
    if (host.name.size() > 1 && host.name.back() == '.') host.name.pop_back();
    host.is_ip = is_ip_address(AF_INET, host.name);
    if (!host.is_ip && !is_host_name(host.name)) return std::nullopt;
  }
  // An empty port means the scheme's own (RFC 3986, section 3.2.3).
  if (has_port && !port.empty()) {
    std::uint16_t number = 0;
    const auto [end, error] = std::from_chars(port.data(), port.data() + port.size(), number);
    if (error != std::errc{} || end != port.data() + port.size()) return std::nullopt;
    host.port = number;
  }
  return host;
}

bool is_localhost_name(std::string_view name) { return name == "localhost" || name.ends_with(".localhost"); }

bool is_loopback_host(std::string_view value, std::uint16_t port) {
  const auto host = parse_host(value);
  return host && host->port.value_or(80) == port &&
         (host->name == "localhost" || host->name == "127.0.0.1" || host->name == "::1");
}

}  // namespace porter::http
