// The environment of a script: the meta-variables of CGI/1.1 (RFC 3875, section 4.1), what interpreters expect beside
// them, and the few variables that are let through from the server's own environment.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "core/http/head.hpp"
#include "core/http/target.hpp"
#include "core/script/environment.hpp"
#include "core/settings/settings.hpp"
#include "core/sites/resolve.hpp"

namespace porter::script {

/// What the request's connection adds to its head.
struct Caller {
  std::string client_address;  ///< An IP address, without brackets.
  std::uint16_t client_port = 0;
  std::uint16_t server_port = 0;
  std::string server_host;  ///< From the request's Host, else the address that it came to.
};

/// The variables in a stable order, but for REMOTE_PORT: without it they are the same for whoever asks the same once
/// more. `body_length` is the length of the body once its transfer coding
/// is taken off; nullopt if the request has none. `passed_on` are variables of the server's own ("PATH=…") to begin
/// with.
Environment meta_variables(const sites::ScriptFound& script, const Site& site, const http::RequestHead& head,
                           const http::Target& target, const Caller& caller, std::optional<std::uint64_t> body_length,
                           const std::vector<std::string>& passed_on);

inline constexpr std::string_view kRemotePort = "REMOTE_PORT";
/// Adds that, the last of them.
void add_remote_port(Environment& environment, std::uint16_t port);

/// The command-line arguments that an indexed query gives to a program that is run directly (RFC 3875, section 4.4):
/// the words between "+", decoded; none if the query has an unencoded "=".
std::vector<std::string> query_arguments(std::string_view query);

}  // namespace porter::script
