// Speaking to a running server through its control socket.
#pragma once

#include <chrono>
#include <functional>
#include <string>
#include <string_view>

#include "core/text/json.hpp"
#include "machine/instance.hpp"

namespace porter::client {

struct Reply {
  int status = 0;  ///< 0: the server could not be asked, and `body` is a text that tells why.
  nlohmann::json body;
};

/// What a server has for a response; a reload may open files on slow disks. One that hangs must not hang its client
/// too.
inline constexpr std::chrono::seconds kMostWait{20};

/// Asks the server one thing: "GET", "/v1/status". It has `patience` for its response.
Reply ask(const machine::Instance& instance, const std::string& method, const std::string& target,
          const nlohmann::json& body = nullptr, std::chrono::seconds patience = kMostWait);

/// Asks for bytes and hands them to `take` as they come, until it returns false. The status, with a body only where it
/// is not 200.
Reply ask_for_bytes(const machine::Instance& instance, const std::string& target,
                    const std::function<bool(std::string_view)>& take);

/// Follows the events of the server and hands each to `take`, its type and its data, until the server ends or `take`
/// returns false. The first has no type: from there on nothing is missed. False: it could not be asked.
bool ask_for_events(const machine::Instance& instance,
                    const std::function<bool(const std::string& type, const nlohmann::json& data)>& take);

/// Asks for lines of JSON and hands each to `take` as it comes, until the server ends or `take` returns false. False:
/// it could not be asked.
bool ask_for_lines(const machine::Instance& instance, const std::string& target,
                   const std::function<bool(const nlohmann::json&)>& take);

}  // namespace porter::client
