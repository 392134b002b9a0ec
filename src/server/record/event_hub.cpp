// See event_hub.hpp.
#include "server/record/event_hub.hpp"

#include <utility>

#include "core/exchange/recorded.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"

namespace porter::server {
namespace {

/// So many are kept for those who are slow, or who come back.
constexpr std::size_t kMostEvents = 2000;
/// How long exchanges are told of after the last has left: one who comes back has missed nothing then.
constexpr std::chrono::seconds kStaysOn{30};

}  // namespace

void EventHub::publish(std::string_view type, std::string data) { add({std::string(type), std::move(data), nullptr}); }

void EventHub::add(Event event) {
  const std::lock_guard lock(mutex_);
  events_.push_back(std::move(event));
  ++next_;
  if (events_.size() > kMostEvents) events_.pop_front();
  for (const auto& [number, then] : subscribers_) then();
}

void EventHub::tell(const ExchangeStore::News& news) {
  {
    const std::lock_guard lock(mutex_);
    if (subscribers_.empty() && std::chrono::steady_clock::now() > followed_until_) {
      store_.set_listener(nullptr);
      return;
    }
  }
  const Exchange& exchange = news.exchange;
  add({"", "",
       std::make_unique<OfExchange>(OfExchange{news.what, news.number, exchange.method, exchange.target, exchange.site,
                                               exchange.status, exchange.body_bytes, error_count(exchange),
                                               exchange.duration, exchange.time, kind_of(exchange.by)})});
}

void EventHub::append(std::string& out, std::uint64_t id, const Event& event) {
  std::string type = event.type;
  std::string data = event.data;
  if (event.exchange) {
    const OfExchange& of = *event.exchange;
    const bool has_ended = of.what == ExchangeStore::News::What::ended;
    nlohmann::json facts = {
        {"number", of.number}, {"method", text::to_utf8(of.method)}, {"target", text::to_utf8(of.target)}};
    facts["time"] = text::format_time(of.time);
    if (of.site) facts["site"] = text::to_utf8(*of.site);
    if (has_ended) {
      facts["kind"] = of.kind;
      facts["status"] = of.status;
      facts["bytes"] = of.bytes;
      if (of.errors > 0) facts["errors"] = of.errors;
      facts["milliseconds"] = exchange::millis(of.duration);
    }
    type = has_ended ? "exchange-ended" : "exchange-begun";
    data = json_text(facts);
  }
  out += "id: " + std::to_string(id) + "\nevent: " + type + "\ndata: " + data + "\n\n";
}

EventHub::News EventHub::after(std::uint64_t after) {
  News news;
  const std::lock_guard lock(mutex_);
  const std::uint64_t first = next_ - events_.size();
  // A number that was never given is one of another server, before this one.
  if (after >= next_) after = 0;
  if (after + 1 < first && after > 0)
    news.text = "event: lost\ndata: {\"count\":" + std::to_string(first - after - 1) + "}\n\n";
  for (std::uint64_t id = std::max(first, after + 1); id < next_; ++id) append(news.text, id, events_[id - first]);
  news.last = next_ - 1;
  return news;
}

std::uint64_t EventHub::last() {
  const std::lock_guard lock(mutex_);
  return next_ - 1;
}

std::uint64_t EventHub::subscribe(std::function<void()> then) {
  const auto listener =
      std::make_shared<const ExchangeStore::Listener>([this](const ExchangeStore::News& news) { tell(news); });
  std::uint64_t number = 0;
  {
    const std::lock_guard lock(mutex_);
    number = next_subscriber_++;
    subscribers_.emplace(number, std::move(then));
  }
  store_.set_listener(listener);
  return number;
}

void EventHub::unsubscribe(std::uint64_t number) {
  const std::lock_guard lock(mutex_);
  subscribers_.erase(number);
  followed_until_ = std::chrono::steady_clock::now() + kStaysOn;
}

}  // namespace porter::server
