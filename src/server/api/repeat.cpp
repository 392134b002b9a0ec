// See repeat.hpp.
#include "server/api/repeat.hpp"

#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/write.hpp>
#include <chrono>
#include <vector>

#include "run/event.hpp"

namespace porter::server {
namespace {

using asio::ip::tcp;

constexpr std::chrono::milliseconds kLookEvery{2};
/// A request that is broken off has no response before the server has lost its patience with it.
constexpr std::chrono::minutes kMostPatience{10};

/// Takes what has come over `socket` without keeping it. False: the other side has closed it.
bool drain(tcp::socket& socket) {
  static thread_local std::vector<char> dropped(256 * 1024);
  for (;;) {
    boost::system::error_code error;
    const std::size_t got = socket.read_some(asio::buffer(dropped), error);
    if (error == asio::error::would_block) return true;
    if (error || got == 0) return false;
  }
}

/// The port is expected at the store for as long as this lives.
class Expectation {
 public:
  Expectation(ExchangeStore& store, std::uint16_t port, std::uint64_t number) : store_(store), port_(port) {
    store_.expect(port_, number);
  }
  ~Expectation() { store_.forget(port_); }
  Expectation(const Expectation&) = delete;
  Expectation& operator=(const Expectation&) = delete;

 private:
  ExchangeStore& store_;
  std::uint16_t port_;
};

}  // namespace

asio::awaitable<std::variant<std::uint64_t, Finding>> repeat(asio::io_context& context, ExchangeStore& store,
                                                             const exchange::Recorded& exchange, std::string bytes,
                                                             const bool& gone) {
  boost::system::error_code error;
  const auto address = asio::ip::make_address(exchange.server, error);
  const tcp::endpoint endpoint(address, exchange.server_port);
  const auto failed = [&](const std::string& reason) {
    return Finding{Code::exchange_repeat_failed,
                   {{"number", std::to_string(exchange.number)},
                    {"address", exchange.server + ", port " + std::to_string(exchange.server_port)},
                    {"reason", reason}}};
  };
  if (error) co_return failed("it did not come over the network");
  tcp::socket socket(context);
  socket.open(endpoint.protocol(), error);
  // Its port is known before it is connected, so that the exchange can be told from all others.
  if (!error) socket.bind(tcp::endpoint(endpoint.protocol(), 0), error);
  if (error) co_return failed(error.message());
  const auto [refused] = co_await socket.async_connect(endpoint, run::kAwait);
  if (refused) co_return failed(refused.message());
  const Expectation expected(store, socket.local_endpoint(error).port(), exchange.number);
  socket.non_blocking(true, error);
  std::size_t sent = 0;
  std::uint64_t number = 0;
  asio::steady_timer pause(context);
  const auto until = run::Clock::now() + kMostPatience;
  for (bool is_open = true; !gone && run::Clock::now() < until;) {
    // What is sent and what comes take turns: a server that answers early may not read the rest.
    if (is_open && sent < bytes.size()) {
      sent += socket.write_some(asio::buffer(bytes.data() + sent, bytes.size() - sent), error);
      if (error && error != asio::error::would_block) sent = bytes.size();
    }
    if (is_open) is_open = drain(socket);
    number = store.has_come(socket.local_endpoint(error).port());
    if (number != 0 && store.is_over(number)) co_return number;
    if (!is_open && number == 0) break;
    pause.expires_after(kLookEvery);
    co_await pause.async_wait(run::kAwait);
  }
  if (number != 0 && !gone) co_return failed("it did not end within 10 minutes");
  co_return failed("the connection was closed");
}

}  // namespace porter::server
