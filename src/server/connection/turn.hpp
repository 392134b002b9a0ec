// A turn: one request of a connection and all that belongs to it. It is made anew for each request, so nothing of one
// can reach the next.
//
// It belongs to its connection, and its functions are called on that one's thread.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <chrono>
#include <functional>
#include <memory>
#include <optional>
#include <string_view>
#include <utility>
#include <vector>

#include "core/settings/settings.hpp"
#include "run/script_source.hpp"
#include "server/connection/body_reader.hpp"
#include "server/connection/request.hpp"
#include "server/record/exchange.hpp"
#include "server/record/exchange_store.hpp"
#include "server/response/writer.hpp"
#include "server/snapshot.hpp"

namespace porter::server {

class Connection;
class Worker;

class Turn {
 public:
  /// The turn of a request whose head has just arrived, or has not and will not.
  explicit Turn(Connection& connection);
  ~Turn();
  Turn(const Turn&) = delete;
  Turn& operator=(const Turn&) = delete;

  /// Reads the head, the next `length` bytes of the input, which stay where they are until the turn is over. `space` is
  /// memory for its fields. A problem: it is none.
  std::optional<http::HeadProblem> read_head(std::size_t length, std::vector<http::Field> space);
  /// Takes in what the head says of the connection and of the body. After read_head().
  void take_head();
  /// Prepares for a response that is not ready: the same, and recording begins.
  void prepare();
  /// Begins to record the exchange, `head` being what has come of the request by now, unless that is done already or
  /// nothing is kept.
  void begin_recording(std::string_view head) noexcept;
  /// Keeps a response that lay ready and has gone out whole.
  void keep_ready() noexcept;
  /// Records that of one that has not, what was sent of it by now included.
  void begin_recording_ready() noexcept;
  bool is_recording() const { return recording_ != nullptr; }
  /// Whether the exchange will be kept.
  bool is_recorded();
  /// The URL at which the console shows this exchange; empty: it does not, or the client could not open it.
  std::string console_url();
  /// Has the facts recorded, as they are now.
  void record_facts() noexcept;
  /// Gives back the memory of the head's fields. The request must not be used any more.
  std::vector<http::Field> take_field_space() { return std::move(request_.head.fields); }

  Request& request() { return request_; }
  /// The head's bytes, if it has no body.
  std::string_view head_text() const;
  Writer& writer() { return writer_; }
  BodyReader& body() { return body_; }
  Exchange& exchange() { return exchange_; }

  const Ends& ends() const;
  Worker& worker();
  asio::any_io_executor executor();
  /// What is served; it stays the same for the whole turn.
  const Snapshot& snapshot() const { return *served_.snapshot; }
  const Settings& settings() const { return served_.snapshot->settings; }
  run::Runners& runners() { return served_.runners; }
  Served& served() { return served_; }
  /// The address that the request came to; null for the control interface.
  const Listener* listener() const;

  /// The site that answers; one without a name if that is not known yet, or if there is none.
  const Site& site() const;
  void set_site(const Site* site);
  /// The site that Host values like `host` are known to lead to on this connection; null: that is not known.
  const Site* site_known_for(std::string_view host) const;
  /// The Host value of the last request that was answered in full, for the turns to come: it leads to site().
  void remember_host(std::string_view host);
  /// The value remembered, with its site; null: there is none.
  const std::string* known_host() const;
  /// What this worker keeps of files, and the number that a site of the settings has there.
  FileCache& files() { return served_.files; }
  std::size_t number_of(const Site& site) const { return static_cast<std::size_t>(&site - settings().sites.data()); }

  /// Waits until the client closes the connection. Returns early, with false, when it sends another request, or when
  /// cancel_reading() is called.
  asio::awaitable<bool> client_leaves();
  /// Makes reads in progress return, and client_leaves() too until resume_reading().
  void cancel_reading();
  void resume_reading() { is_reading_cancelled_ = false; }
  bool is_reading_cancelled() const { return is_reading_cancelled_; }
  /// True if the client has gone, as far as that can be told without reading what it sent before.
  bool has_client_left() const;
  /// Calls `then`, once, soon after the client has gone; null: nobody wants to know any more.
  void when_client_leaves(std::function<void()> then) { when_client_leaves_ = std::move(then); }
  bool is_aborted() const;

  /// Whether the connection may stay after this response, as far as the server is concerned.
  bool may_stay();

  /// The script that the request was found to lead to by its path alone, as one of the same path did a moment ago;
  /// null: that has to be looked up.
  void set_known_script(std::shared_ptr<const CachedFile> file) { known_script_ = std::move(file); }
  const std::shared_ptr<const CachedFile>& known_script() const { return known_script_; }

  /// What is stopped when the connection is cut off; null: nothing.
  void set_source(std::shared_ptr<run::ScriptSource> source) { source_ = std::move(source); }

  // For the connection.

  /// Cuts it off: stops the source, and calls who waits for the client to leave.
  void abort();
  /// Gives it up.
  void give_up(Lost why) noexcept;
  /// Called from time to time.
  void look_after_client();

 private:
  /// What it means that the client sends nothing any more.
  bool end_of_sending_means_gone() const;
  void note_for_access_log();

  Connection& connection_;
  Served& served_;              ///< The connection keeps it for as long as the turn lasts.
  const Site* site_ = nullptr;  ///< In served_.
  Exchange exchange_;
  Request request_;
  std::string head_copy_;  ///< Of a request with a body, which needs the input buffer for itself.
  Writer writer_;
  BodyReader body_;
  bool is_reading_cancelled_ = false;
  bool half_close_is_fine_ = false;
  std::function<void()> when_client_leaves_;
  std::shared_ptr<run::ScriptSource> source_;
  std::unique_ptr<Recording> recording_;
  bool is_head_taken_ = false;
  std::shared_ptr<const CachedFile> known_script_;
};

}  // namespace porter::server
