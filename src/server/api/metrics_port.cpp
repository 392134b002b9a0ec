// See metrics_port.hpp.
#include "server/api/metrics_port.hpp"

#include <string>
#include <utility>

#include "core/files/beneath.hpp"
#include "server/connection/turn.hpp"
#include "server/server.hpp"

namespace porter::server {
namespace {

/// Any user of this computer may connect.
constexpr std::size_t kMostMonitors = 16;

}  // namespace

asio::awaitable<void> MetricsResponder::answer(Turn& turn) {
  const http::RequestHead& head = turn.request().head;
  const std::string path(head.target.substr(0, head.target.find('?')));
  std::optional<Reply> problem;
  if (const auto finding = foreign_host(head, port_, "/metrics")) {
    problem = refused(*finding);
  } else if (path != "/metrics") {
    problem = bad_call(404, "Only /metrics is here");
  } else if (head.method != "GET") {
    problem = bad_call(405, "/metrics can only be read, with GET");
  }
  if (problem) {
    turn.writer().close_after();
    co_await send(turn, std::move(*problem));
    co_return;
  }
  turn.request().head.target = "/v1/metrics";
  auto answering = ApiResponder::answer(turn);
  co_await std::move(answering);
}

MetricsPort::MetricsPort(Server& server, Api& api)
    : responder_(api),
      worker_(server.shared(), server.context(), std::make_shared<const Snapshot>(), responder_, connections_),
      listeners_(server.context(), [this](int socket, const Endpoint&) { take(socket); }) {}

void MetricsPort::take(int socket) {
  if (connections_.load(std::memory_order_relaxed) >= kMostMonitors) {
    refuse_connection(socket, {Code::too_many_connections, {{"limit", std::to_string(kMostMonitors)}}});
    return;
  }
  connections_.fetch_add(1, std::memory_order_relaxed);
  worker_.adopt(socket, {});
}

std::optional<Finding> MetricsPort::serve_at(const std::optional<Address>& wanted) {
  if (wanted == served_) return std::nullopt;
  if (!wanted) {
    listeners_.commit({});
    served_.reset();
    return std::nullopt;
  }
  Address address = *wanted;
  auto opened = listen_on(address);
  if (const auto* const error = std::get_if<ListenError>(&opened))
    return Finding{Code::metrics_failed, {{"address", wanted->text()}, {"reason", files::describe({error->number})}}};
  Listeners::Change change{std::move(std::get<std::vector<ListeningSocket>>(opened)), wanted->endpoints()};
  served_ = wanted;
  responder_.open_at(wanted->port);
  listeners_.commit(std::move(change));
  return std::nullopt;
}

void MetricsPort::close() {
  listeners_.close();
  worker_.stop();
  worker_.abort();
}

}  // namespace porter::server
