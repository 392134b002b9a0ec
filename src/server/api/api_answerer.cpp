// See api_answerer.hpp.
#include "server/api/api_answerer.hpp"

#include "core/http/findings.hpp"
#include "server/connection/turn.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kMostBody = 64 * 1024;

/// The body of an answer in chunks.
class TurnStream : public Stream {
 public:
  explicit TurnStream(Turn& turn) : turn_(turn) {}
  asio::awaitable<bool> send(std::string_view part) override { return turn_.writer().body(part); }
  void when_left(std::function<void()> then) override { turn_.when_client_leaves(std::move(then)); }

 private:
  Turn& turn_;
};

asio::awaitable<void> send(Turn& turn, Reply reply) {
  AnswerHead head;
  head.status = reply.status;
  const std::string type = reply.lines ? "application/x-ndjson" : "application/json";
  head.fields = {{"Content-Type", type}, {"Cache-Control", "no-store"}};
  if (reply.lines) {
    turn.writer().begin(head);
    TurnStream stream(turn);
    co_await reply.lines(stream);
    co_await turn.writer().end();
    co_return;
  }
  std::string body = (reply.text.empty() ? reply.body.dump(2) : std::move(reply.text)) + "\n";
  co_await turn.writer().page(std::move(head), std::move(body));
}

}  // namespace

asio::awaitable<void> ApiAnswerer::refuse(Turn& turn, Finding finding) { return send(turn, refused(finding)); }

asio::awaitable<void> ApiAnswerer::answer(Turn& turn) {
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
  BodyRead read = BodyRead::data;
  while (read == BodyRead::data && call.body.size() <= kMostBody) read = co_await turn.body().read(call.body);
  if (read != BodyRead::end) {
    turn.writer().close_after();
    co_await send(turn, bad_call(422, "The body of the call cannot be read, or is larger than 64 KiB"));
    co_return;
  }
  Reply reply = co_await api_.answer(call);
  co_await send(turn, std::move(reply));
}

}  // namespace porter::server
