// Sending a recorded request once more, through the front door.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <boost/asio/io_context.hpp>
#include <cstdint>
#include <string>
#include <variant>

#include "core/exchange/recorded.hpp"
#include "core/findings/finding.hpp"
#include "server/record/exchange_store.hpp"

namespace porter::server {

namespace asio = boost::asio;

/// Sends `bytes`, the request of `exchange` as it was or changed, over a connection to the address that it came to, and
/// waits until the response is over. The number of the new exchange; a finding if there is none. `gone` becomes true
/// when nobody waits for it any more.
asio::awaitable<std::variant<std::uint64_t, Finding>> repeat(asio::io_context& context, ExchangeStore& store,
                                                             const exchange::Recorded& exchange, std::string bytes,
                                                             const bool& gone);

}  // namespace porter::server
