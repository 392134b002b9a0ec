// What happens, told to whoever follows it: a bounded list of events with numbers. Whoever is too slow for it misses
// some, and is told how many; nobody who tells is held up.
#pragma once

#include <chrono>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <string_view>

#include "server/record/exchange_store.hpp"

namespace porter::server {

class EventHub {
 public:
  /// Tells of exchanges in `store`, for as long as somebody follows; it must outlive this.
  explicit EventHub(ExchangeStore& store) : store_(store) {}
  ~EventHub() { store_.set_listener(nullptr); }
  EventHub(const EventHub&) = delete;
  EventHub& operator=(const EventHub&) = delete;

  // From any thread.

  /// Tells of an event: its type, and a value as JSON on one line.
  void publish(std::string_view type, std::string data);

  struct News {
    std::string text;        ///< Events as a stream (WHATWG HTML, section 9.2): id, event, data.
    std::uint64_t last = 0;  ///< The number up to which nothing is missing now.
  };
  /// What has come after the event with the number `after`.
  News after(std::uint64_t after);
  /// The number of the last event.
  std::uint64_t last();

  /// Has `then` called when there is more, from any thread, until unsubscribe() with the number that is returned.
  std::uint64_t subscribe(std::function<void()> then);
  void unsubscribe(std::uint64_t number);

 private:
  /// An exchange that has begun or ended; made into text only for somebody who reads it.
  struct OfExchange {
    ExchangeStore::News::What what;
    std::uint64_t number = 0;
    std::string method;
    std::string target;
    std::shared_ptr<const std::string> site;
    int status = 0;
    std::uint64_t bytes = 0;
    std::size_t errors = 0;  ///< Lines of error streams.
    std::chrono::nanoseconds duration{0};
    std::chrono::system_clock::time_point time;
    std::string_view kind;
  };
  struct Event {
    std::string type;  ///< Empty: it is of an exchange.
    std::string data;
    std::unique_ptr<OfExchange> exchange;
  };
  void add(Event event);
  void tell(const ExchangeStore::News& news);
  static void append(std::string& out, std::uint64_t id, const Event& event);

  ExchangeStore& store_;
  std::mutex mutex_;
  std::deque<Event> events_;  // Guarded by mutex_, as are those below.
  std::uint64_t next_ = 1;    ///< The number of the event that comes next.
  std::map<std::uint64_t, std::function<void()>> subscribers_;
  std::uint64_t next_subscriber_ = 1;
  std::chrono::steady_clock::time_point followed_until_;
};

}  // namespace porter::server
