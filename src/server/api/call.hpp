// A call of the control interface and its reply, as values: whatever carries them, the calls are the same.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "core/findings/finding.hpp"
#include "core/settings/read_settings.hpp"
#include "core/text/json.hpp"
#include "run/event.hpp"

namespace porter::server {

namespace asio = boost::asio;
using Json = nlohmann::json;

/// Where a reply that goes on is sent to, part by part.
class Stream {
 public:
  virtual ~Stream() = default;
  /// False: nobody takes it any more.
  virtual asio::awaitable<bool> send(std::string_view part) = 0;
  /// Calls `then`, once, soon after the caller has left; null: nobody wants to know any more.
  virtual void when_left(std::function<void()> then) = 0;
  /// Has the reply end without its end, so that nobody takes it for whole.
  virtual void break_off() = 0;
};

struct Call {
  std::string method;
  std::string path;   ///< As it was sent, without the query.
  std::string query;  ///< As it was sent.
  std::string body;
  /// Has `then` called, once, soon after the caller has left; null: nobody wants to know any more.
  void when_left(std::function<void()> then) const {
    if (tell_when_left) tell_when_left(std::move(then));
  }
  std::function<void(std::function<void()>)> tell_when_left;  ///< Null: that cannot be told.
  std::string last_event;  ///< The field Last-Event-ID, of a caller who followed events before.

  /// The value of `name` in the query, decoded; nullopt if it is not there.
  std::optional<std::string> parameter(std::string_view name) const;
  /// The same as a number; nullopt if it is not there, or is none.
  std::optional<std::uint64_t> number(std::string_view name) const;
  /// What follows `prefix` in the path, decoded.
  std::string rest_of_path(std::string_view prefix) const;
  /// The body as an object; a null value if it is none.
  Json object() const;
};

struct Reply {
  int status = 200;
  Json body{};
  std::string text{};  ///< Where it is not empty, the body as it is sent.
  /// Set: the body is sent by this.
  std::function<asio::awaitable<void>(Stream&)> stream{};
  std::string type{};                  ///< The media type; empty: JSON, or lines of JSON if it is a stream.
  std::optional<std::string> bytes{};  ///< Set: the body, exactly.
};

/// A reply that tells what is wrong with the call itself.
Reply bad_call(int status, const std::string& problem);
/// A reply that tells why the call cannot be followed.
Reply refused(const std::vector<SettingsProblem>& findings);
Reply refused(const Finding& finding);

/// The "fields" of `object`, each with a name and a value; nullopt: one is no field line of a head.
std::optional<std::vector<std::pair<std::string, std::string>>> fields_in(const Json& object);

/// The text at `key` in `object`; empty if there is none.
std::string text_in(const Json& object, const char* key);

}  // namespace porter::server
