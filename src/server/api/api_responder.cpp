// See api_responder.hpp.
#include "server/api/api_responder.hpp"

#include <exception>
#include <new>
#include <optional>

#include "core/http/findings.hpp"
#include "core/http/host.hpp"
#include "core/text/text.hpp"
#include "server/connection/turn.hpp"
#include "server/worker.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kMostBody = 64 * 1024;
/// A request that is sent again brings its new body along.
constexpr std::size_t kMostBodyOfAgain = 2 * 1024 * 1024;
/// Settings may be as large, and JSON writes some characters as six; a rehearsal brings its body.
constexpr std::size_t kMostBodyOfText = 8 * 1024 * 1024;

/// The body of a response in chunks.
class TurnStream : public Stream {
 public:
  explicit TurnStream(Turn& turn) : turn_(turn) {}
  asio::awaitable<bool> send(std::string_view part) override { return turn_.writer().body(part); }
  void when_left(std::function<void()> then) override { turn_.when_client_leaves(std::move(then)); }
  void break_off() override { turn_.writer().cut_off(); }

 private:
  Turn& turn_;
};

}  // namespace

asio::awaitable<void> ApiResponder::send(Turn& turn, Reply reply) const {
  ResponseHead head;
  head.status = reply.status;
  const std::string usual = reply.stream ? "application/x-ndjson" : "application/json";
  head.fields = {{"Content-Type", reply.type.empty() ? usual : reply.type}, {"Cache-Control", "no-store"}};
  for (auto& field : more_fields()) head.fields.push_back(std::move(field));
  if (reply.bytes) {
    co_await turn.writer().page(std::move(head), std::move(*reply.bytes));
    co_return;
  }
  if (reply.stream) {
    turn.writer().begin(head);
    TurnStream stream(turn);
    co_await reply.stream(stream);
    co_await turn.writer().end();
    co_return;
  }
  std::string body = (reply.text.empty() ? json_text(reply.body, 2) : std::move(reply.text)) + "\n";
  co_await turn.writer().page(std::move(head), std::move(body));
}

std::optional<Finding> ApiResponder::foreign_host(const http::RequestHead& head, std::uint16_t port,
                                                  std::string_view path) {
  if (const std::size_t hosts = head.count("Host"); hosts > 1) return http::wrong_host_count(hosts);
  const std::string written(head.field("Host").value_or(""));
  if (http::is_loopback_host(written, port)) return std::nullopt;
  const std::string number = std::to_string(port);
  return Finding{Code::console_host_foreign,
                 {{"host", written},
                  {"names", "localhost:" + number + ", 127.0.0.1:" + number + " and [::1]:" + number},
                  {"url", "http://localhost:" + number + std::string(path)}}};
}

asio::awaitable<void> ApiResponder::refuse(Turn& turn, Finding finding) { return send(turn, refused(finding)); }

asio::awaitable<void> ApiResponder::answer(Turn& turn) {
  const Request& request = turn.request();
  if (request.framing_error) {
    turn.writer().close_after();
    co_await send(turn, refused(http::finding_of(*request.framing_error, request.head)));
    co_return;
  }
  const std::string_view target = request.head.target;
  Call call;
  call.method = request.head.method;
  call.path = target.substr(0, target.find('?'));
  call.query = target.substr(std::min(call.path.size() + 1, target.size()));
  call.last_event = request.head.field("Last-Event-ID").value_or("");
  const bool brings_text = call.path.starts_with("/v1/settings") || call.path == "/v1/rehearsals";
  const std::size_t most = brings_text ? kMostBodyOfText : call.path.ends_with("/again") ? kMostBodyOfAgain : kMostBody;
  BodyRead read = BodyRead::data;
  while (read == BodyRead::data && call.body.size() <= most) read = co_await turn.body().read(call.body);
  if (read != BodyRead::end) {
    turn.writer().close_after();
    co_await send(turn,
                  bad_call(422, "The body of the call cannot be read, or is larger than " + text::format_limit(most)));
    co_return;
  }
  call.tell_when_left = [&turn](std::function<void()> then) { turn.when_client_leaves(std::move(then)); };
  Reply reply;
  std::optional<std::string> error;
  try {
    auto answering = api_.answer(call);
    reply = co_await std::move(answering);
  } catch (const std::bad_alloc&) {
    throw;
  } catch (const std::exception& thrown) {
    error = thrown.what();
  }
  // What the call asked to be told of has gone with it.
  turn.when_client_leaves(nullptr);
  if (error) {
    const Finding finding{Code::internal_error,
                          {{"program", "uporterd"}, {"action", call.method + " " + call.path}, {"reason", *error}}};
    turn.worker().note(finding);
    reply = refused(finding);
  }
  co_await send(turn, std::move(reply));
}

}  // namespace porter::server
