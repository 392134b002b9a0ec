// The control interface: what can be asked of a running server, and what it can be told to do. Every call is a
// coroutine on the server's own thread, and knows nothing of sockets; docs/control.openapi.yaml describes them all.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <chrono>
#include <functional>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <type_traits>
#include <utility>

#include "core/exchange/har.hpp"
#include "core/exchange/recorded.hpp"
#include "machine/instance.hpp"
#include "run/fresh/run.hpp"
#include "run/helpers.hpp"
#include "server/api/call.hpp"
#include "server/api/steering.hpp"
#include "server/server.hpp"

namespace porter::machine {
class Rehearsal;
}

namespace porter::server {

class Console;
class FileWatch;

class Api {
 public:
  /// Speaks for `server`, known as `instance`. `steering` is null where it goes by no settings. All must outlive it.
  Api(Server& server, const machine::Instance& instance, Steering* steering)
      : server_(server), instance_(instance), steering_(steering), probes_(server.context().get_executor()) {}
  Api(const Api&) = delete;
  Api& operator=(const Api&) = delete;

  /// Answers one call.
  asio::awaitable<Reply> answer(const Call& call);
  /// Ends replies that would go on, and what they run.
  void close();
  /// Where the console is; null: there is none. It must outlive this.
  void set_console(const Console* console) { console_ = console; }

 private:
  using Response = asio::awaitable<Reply> (Api::*)(const Call&);
  struct Route;
  static const Route kRoutes[];

  // By group, each in a file of its own.

  asio::awaitable<Reply> status(const Call&);
  asio::awaitable<Reply> metrics(const Call&);
  asio::awaitable<Reply> stop(const Call&);
  asio::awaitable<Reply> reload(const Call&);
  asio::awaitable<Reply> pause(const Call&);
  asio::awaitable<Reply> resume(const Call&);
  asio::awaitable<Reply> restart(const Call&);
  asio::awaitable<Reply> open_folder(const Call& call);
  asio::awaitable<Reply> autostart(const Call& call);
  /// What the command uporter says when it is given `words`, and whether it has succeeded.
  asio::awaitable<std::string> output_of_own(std::vector<std::string> words, bool& is_fine);

  asio::awaitable<Reply> settings_text(const Call& call);
  asio::awaitable<Reply> check_settings(const Call& call);
  asio::awaitable<Reply> write_settings(const Call& call);
  asio::awaitable<Reply> languages(const Call&);
  asio::awaitable<Reply> language(const Call& call);

  asio::awaitable<Reply> folders(const Call& call);
  asio::awaitable<Reply> tree(const Call& call);
  asio::awaitable<Reply> source(const Call& call);
  asio::awaitable<Reply> rehearse(const Call& call);
  asio::awaitable<Reply> watch(const Call& call);
  asio::awaitable<void> send_saves(Stream& stream, std::string file);

  asio::awaitable<Reply> sites(const Call&);
  asio::awaitable<Reply> add_site(const Call& call);
  asio::awaitable<Reply> change_site(const Call& call);
  asio::awaitable<Reply> remove_site(const Call& call);
  asio::awaitable<Reply> mounts(const Call&);
  asio::awaitable<Reply> add_mount(const Call& call);
  asio::awaitable<Reply> remove_mount(const Call& call);
  /// Shows a folder as a site that no settings name, until the server stops.
  Reply show_until_stop(const SettingsEdit& edit);
  asio::awaitable<Reply> changed(const SettingsEdit& edit, int status);

  asio::awaitable<Reply> log(const Call& call);
  asio::awaitable<void> send_log(Stream& stream, Journal::Filter filter, std::size_t lines, bool follow);
  asio::awaitable<Reply> events(const Call& call);
  asio::awaitable<void> send_events(Stream& stream, std::uint64_t after);
  /// What is wrong at the moment, as a list.
  asio::awaitable<Json> standing_findings();
  /// Tells of it, if it is something else than before.
  asio::awaitable<void> tell_of_findings();
  asio::awaitable<Reply> explain(const Call& call);

  asio::awaitable<Reply> exchanges(const Call& call);
  asio::awaitable<Reply> exchanges_har(const Call& call);
  asio::awaitable<void> send_archive(Stream& stream, std::shared_ptr<exchange::HarText> archive);
  asio::awaitable<Reply> exchange(const Call& call);
  asio::awaitable<Reply> exchange_bytes(std::uint64_t number, std::string_view part);
  asio::awaitable<Reply> exchange_for_curl(std::uint64_t number);
  asio::awaitable<Reply> exchange_difference(std::uint64_t left, std::uint64_t right);
  asio::awaitable<Reply> exchange_again(const Call& call);
  asio::awaitable<void> send_wire(Stream& stream, exchange::Wire wire, std::uint64_t from);
  Finding no_exchange(std::uint64_t number) const;

  /// Makes a body of any size from what is served, away from the thread that accepts all connections.
  asio::awaitable<Reply> on_helper_thread(std::function<Json(const Snapshot&)> make);
  Finding no_settings() const;

  /// How long a folder, a name server or the settings may take.
  static constexpr std::chrono::seconds kMostPatience{10};
  static constexpr std::size_t kMostRehearsals = 8;
  /// That `what` did not answer within kMostPatience.
  static Finding no_response(const std::string& what);
  /// Does `work` where it may hang: it looks at folders or names. It has to own what it uses. nullopt: it took too
  /// long, or nobody waits for it any more.
  template <typename Work>
  asio::awaitable<std::optional<std::invoke_result_t<Work>>> look(const Call& call, Work work);

  Server& server_;
  const machine::Instance& instance_;
  Steering* const steering_;
  std::set<std::shared_ptr<run::Event>> following_;  ///< Set when this closes: who waits for them goes on.
  bool is_closed_ = false;
  const Console* console_ = nullptr;
  run::RunSet probes_;                   ///< Of interpreters that are asked about themselves, and of our own commands.
  run::Helpers stage_{kMostRehearsals};  ///< Where rehearsals run, which may take as long as any script.
  std::set<machine::Rehearsal*> rehearsals_;
  std::set<FileWatch*> watches_;
  std::string told_findings_;  ///< Of events: those that were told of last.
};

/// Has a value in a set for as long as this lives, however the coroutine that it belongs to ends.
template <typename Value>
class Member {
 public:
  Member(std::set<Value>& all, Value value) : all_(all), value_(std::move(value)) { all_.insert(value_); }
  ~Member() { all_.erase(value_); }
  Member(const Member&) = delete;
  Member& operator=(const Member&) = delete;

 private:
  std::set<Value>& all_;
  Value value_;
};

/// Has `then` called when the caller leaves, for as long as this lives. `Caller` is a Call or a Stream.
template <typename Caller>
class WhenLeft {
 public:
  WhenLeft(Caller& caller, std::function<void()> then) : caller_(caller) { caller_.when_left(std::move(then)); }
  ~WhenLeft() { caller_.when_left(nullptr); }
  WhenLeft(const WhenLeft&) = delete;
  WhenLeft& operator=(const WhenLeft&) = delete;

 private:
  Caller& caller_;
};

template <typename Work>
asio::awaitable<std::optional<std::invoke_result_t<Work>>> Api::look(const Call& call, Work work) {
  const auto news = std::make_shared<run::Event>(server_.context().get_executor());
  const Member waiting(following_, news);
  const WhenLeft left(call, [news] { news->set(); });
  auto looking = server_.shared().helpers.folders.run_within(kMostPatience, std::move(work), news);
  auto result = co_await std::move(looking);
  co_return result;
}

}  // namespace porter::server
