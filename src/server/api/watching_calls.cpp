// Calls that tell what happens and why: the log, and explanations.
#include <unistd.h>

#include <atomic>
#include <boost/asio/post.hpp>
#include <charconv>
#include <memory>
#include <optional>

#include "core/findings/finding_json.hpp"
#include "core/text/text.hpp"
#include "machine/explain.hpp"
#include "server/api/api.hpp"
#include "server/record/log_line.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kUsualLines = 40;
/// Findings come and go without anybody saying so; while events are followed they are looked for.
constexpr std::chrono::seconds kLookForFindings{2};

Json json_of(const Journal::Kept& kept) {
  if (!kept.exchange) return {{"text", text::to_utf8(kept.note.substr(0, kept.note.size() - 1))}};
  const Exchange& exchange = *kept.exchange;
  std::string line;
  append_log_line(line, exchange, Colour::off);
  line.pop_back();
  Json row = {{"text", text::to_utf8(line)},
              {"time", text::format_time(exchange.time)},
              {"client", exchange.client},
              {"method", text::to_utf8(exchange.method)},
              {"target", text::to_utf8(exchange.target)},
              {"status", exchange.status},
              {"bytes", exchange.body_bytes},
              {"milliseconds", std::chrono::duration<double, std::milli>(exchange.duration).count()},
              {"answered_by", text::to_utf8(answered_by(exchange))}};
  Json errors = Json::array();
  std::size_t more = 0;
  for (const RunFacts& run : exchange.runs) {
    for (const std::string& error : run.error_lines) errors.push_back(text::to_utf8(error));
    more += run.more_error_lines;
  }
  if (!errors.empty()) row["error_lines"] = std::move(errors);
  if (more > 0) row["more_error_lines"] = more;
  if (exchange.site) row["site"] = text::to_utf8(*exchange.site);
  return row;
}

/// Has somebody told of news at a source, the journal or the events, for as long as it lives.
template <typename Source>
class Subscription {
 public:
  Subscription(Source& source, std::function<void()> then)
      : source_(source), number_(source.subscribe(std::move(then))) {}
  ~Subscription() { source_.unsubscribe(number_); }
  Subscription(const Subscription&) = delete;
  Subscription& operator=(const Subscription&) = delete;

 private:
  Source& source_;
  std::uint64_t number_;
};

/// What a reply that goes on waits for: news, one event for each time, or that its caller leaves.
struct Waiting : std::enable_shared_from_this<Waiting> {
  explicit Waiting(const asio::any_io_executor& executor) : news(std::make_shared<run::Event>(executor)) {}

  /// From any thread. However much there is to tell, one word of it is on its way.
  void tell(const asio::any_io_executor& executor) {
    if (!is_told.exchange(true)) asio::post(executor, [self = shared_from_this()] { self->news->set(); });
  }
  void leave() {
    has_left = true;
    news->set();
  }
  void begin_anew(const asio::any_io_executor& executor) {
    news = std::make_shared<run::Event>(executor);
    is_told = false;
  }

  std::shared_ptr<run::Event> news;
  std::atomic<bool> is_told{false};
  bool has_left = false;
};

}  // namespace

asio::awaitable<Reply> Api::log(const Call& call) {
  const bool follow = call.parameter("follow").value_or("") == "true";
  Journal::Filter filter;
  filter.site = call.parameter("site");
  filter.only_errors = call.parameter("errors").value_or("") == "true";
  filter.only_notes = call.parameter("own").value_or("") == "true";
  std::size_t lines = kUsualLines;
  if (call.parameter("limit")) {
    const auto wanted = call.number("limit");
    if (!wanted) co_return bad_call(422, "The number of lines is not a number");
    lines = static_cast<std::size_t>(*wanted);
  }
  // Whoever has just asked for a page looks for it here.
  auto bringing = server_.bring_journal_up_to_date();
  co_await std::move(bringing);
  Reply reply;
  reply.stream = [this, filter, lines, follow](Stream& stream) { return send_log(stream, filter, lines, follow); };
  co_return reply;
}

asio::awaitable<void> Api::send_log(Stream& stream, Journal::Filter filter, std::size_t lines, bool follow) {
  Journal& journal = *server_.shared().journal;
  const auto executor = server_.context().get_executor();
  const auto waiting = std::make_shared<Waiting>(executor);
  std::optional<Subscription<Journal>> subscription;
  if (follow) subscription.emplace(journal, [executor, waiting] { waiting->tell(executor); });
  const WhenLeft left(stream, [waiting] { waiting->leave(); });
  std::uint64_t next = 0;
  for (bool goes_on = true; goes_on;) {
    const auto kept = journal.kept(next, lines, filter);
    next = kept.next;
    std::string out;
    for (const Journal::Kept& line : kept.lines) out += json_text(json_of(line)) + "\n";
    goes_on = co_await stream.send(out);
    if (!goes_on || !follow || waiting->has_left || is_closed_) break;
    lines = SIZE_MAX;
    {
      const Member following(following_, waiting->news);
      co_await waiting->news->wait();
    }
    waiting->begin_anew(executor);
  }
}

asio::awaitable<Reply> Api::events(const Call& call) {
  EventHub& hub = server_.shared().events;
  std::uint64_t after = hub.last();
  const std::string& last = call.last_event;
  if (!last.empty()) std::from_chars(last.data(), last.data() + last.size(), after);
  Reply reply;
  reply.type = "text/event-stream";
  reply.stream = [this, after](Stream& stream) { return send_events(stream, after); };
  co_return reply;
}

asio::awaitable<void> Api::tell_of_findings() {
  auto looking = standing_findings();
  Json now = co_await std::move(looking);
  std::string text = json_text({{"findings", std::move(now)}});
  if (text == told_findings_) co_return;
  told_findings_ = text;
  server_.shared().events.publish("findings", std::move(text));
}

asio::awaitable<void> Api::send_events(Stream& stream, std::uint64_t after) {
  EventHub& hub = server_.shared().events;
  const auto executor = server_.context().get_executor();
  const auto waiting = std::make_shared<Waiting>(executor);
  const Subscription<EventHub> subscription(hub, [executor, waiting] { waiting->tell(executor); });
  const WhenLeft left(stream, [waiting] { waiting->leave(); });
  // The head leaves with the first of the body, and whoever follows wants to know that it has begun.
  bool goes_on = co_await stream.send(": events\n\n");
  while (goes_on) {
    co_await tell_of_findings();
    const EventHub::News news = hub.after(after);
    after = news.last;
    if (!news.text.empty()) goes_on = co_await stream.send(news.text);
    if (!goes_on || waiting->has_left || is_closed_) break;
    {
      const Member following(following_, waiting->news);
      co_await waiting->news->wait_until(run::Clock::now() + kLookForFindings);
    }
    waiting->begin_anew(executor);
  }
}

asio::awaitable<Reply> Api::explain(const Call& call) {
  const Json body = call.object();
  const std::string what = text_in(body, "what");
  const std::string folder = text_in(body, "folder");
  if (what.empty()) co_return bad_call(422, "What is to be explained is missing");
  const auto snapshot = server_.shared_snapshot();
  const machine::Standing standing{true, ::getpid(), instance_.option()};
  auto thinking = look(call, [snapshot, standing, what, folder, search_path = server_.shared().search_path] {
    return machine::json_of(machine::explain({snapshot->settings, search_path}, standing, what, folder));
  });
  auto told = co_await std::move(thinking);
  if (!told) co_return refused(no_response(what));
  Reply reply;
  reply.text = std::move(*told);
  co_return reply;
}

}  // namespace porter::server
