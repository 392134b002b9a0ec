// The server as a whole: its addresses, its workers, its signals, and what is served at the moment.
//
// It lives on the thread that calls run(); all functions are called there.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/posix/stream_descriptor.hpp>
#include <boost/asio/signal_set.hpp>
#include <chrono>
#include <cstddef>
#include <functional>
#include <future>
#include <memory>
#include <thread>
#include <vector>

#include "machine/probe.hpp"
#include "run/warden.hpp"
#include "server/listen/listeners.hpp"
#include "server/response/respond.hpp"
#include "server/start_lines.hpp"
#include "server/worker.hpp"

namespace porter::server {

class Server {
 public:
  /// `threads` is at least 1. Connections are accepted from now on, and answered once run() is called.
  Server(Shared& shared, Settings settings, std::vector<ListeningSocket> entrances, std::size_t threads);

  /// What a hangup means: closing the terminal stops a server that runs in it; one in the background opens its logs
  /// anew.
  enum class Hangup { stops, reopens_logs };

  /// Serves until SIGINT or SIGTERM, then lets what is in progress finish. `start` is completed with what is found out
  /// after the start, and shown in the journal; `ready` is called then.
  void run(StartLines start, Hangup hangup, std::function<void()> ready);

  /// Serves by `settings` from now on: new addresses are opened first, then the workers take the settings up, then
  /// addresses that are gone are closed. If an address cannot be opened, or the server is stopping, nothing changes,
  /// and the findings tell why.
  std::vector<Finding> apply(Settings settings);
  /// Closes all addresses until resume(); what is in progress finishes, and idle connections are closed.
  void pause();
  /// Opens them again. If that cannot be done nothing changes, and the findings tell why.
  std::vector<Finding> resume();
  bool is_paused() const { return is_paused_; }
  /// Lets what is in progress finish, within its bound; run() returns then. Should anything keep it from returning, the
  /// process ends kStopReserve after that bound, whatever it does. A restart that is under way becomes a stop.
  void stop();
  /// The same, and the process is to begin anew then. False: it is being stopped for good already.
  bool restart();
  bool is_to_restart() const { return is_to_restart_; }
  void reopen_logs();
  /// Has scripts compiled anew, whatever PHP takes its files for.
  void forget_compiled();
  /// Keeps the warden, and another one in its place should it be killed.
  void keep_warden(run::Warden warden);
  /// Calls `end` once all requests are done with and the server is about to end.
  void at_end(std::function<void()> end) { ends_.push_back(std::move(end)); }

  asio::io_context& context() { return context_; }
  Shared& shared() { return shared_; }
  const Snapshot& snapshot() const { return *snapshot_; }
  std::shared_ptr<const Snapshot> shared_snapshot() const { return snapshot_; }
  /// What was found of the interpreters last. It never changes: a later look makes another list, so whoever waits may
  /// keep this one meanwhile. Never null.
  using FoundInterpreters = std::vector<machine::FoundInterpreter>;
  std::shared_ptr<const FoundInterpreters> interpreters() const { return interpreters_; }
  std::uint64_t requests_answered() const;
  /// Waits until what was answered by now is in the journal, or a moment.
  asio::awaitable<void> bring_journal_up_to_date();
  /// The same for what is counted for monitors, which waits for no journal.
  asio::awaitable<void> bring_metrics_up_to_date();
  /// Why connections cannot be taken at the moment; nullopt: they can.
  std::optional<Finding> problem();
  std::chrono::system_clock::time_point begun() const { return begun_; }
  bool is_stopping() const { return stopping_; }
  /// "running", "paused" or "stopping".
  std::string_view state() const;
  /// Shows `site` beside those of the settings, and of all that will be applied, until the server stops.
  std::vector<Finding> show_until_stop(Site site);
  /// Calls `then` whenever other settings have been applied.
  void at_apply(std::function<void(const Settings&)> then) { applies_.push_back(std::move(then)); }

 private:
  /// Has each worker hand over what it holds back; each future is there once one has.
  std::vector<std::future<void>> have_records_handed_over();
  std::shared_ptr<const Snapshot> make_snapshot(Settings settings) const;
  /// True if what is kept by `order` would be started in the same way today.
  bool is_still_wanted(const run::PoolOrder& order) const;
  /// Gives the workers what is served: without addresses while it is paused.
  void give_to_workers();
  void tell_state();
  void begin_to_stop();
  void heed_late_signals();
  void hand_over(int socket, const Endpoint& endpoint);
  /// Tells a client why it cannot be answered, and keeps that as an exchange.
  void turn_away(int socket, const Finding& finding);
  asio::awaitable<void> show_start_lines(StartLines start, std::function<void()> ready);
  /// Looks for the interpreters of what is served now.
  asio::awaitable<std::shared_ptr<const FoundInterpreters>> probe();
  asio::awaitable<void> wait_for_signal(Hangup hangup);
  asio::awaitable<void> watch_warden();

  Shared& shared_;
  asio::io_context context_;
  asio::signal_set signals_;
  asio::steady_timer patience_;
  run::RunSet probes_;
  machine::VersionsKnown versions_;
  asio::posix::stream_descriptor warden_;  ///< Its pipe.
  pid_t warden_process_ = 0;
  std::shared_ptr<const Snapshot> snapshot_;
  Listeners listeners_;
  SiteResponder responder_;
  std::vector<std::unique_ptr<WorkerThread>> workers_;
  std::shared_ptr<const FoundInterpreters> interpreters_ = std::make_shared<const FoundInterpreters>();
  std::chrono::system_clock::time_point begun_ = std::chrono::system_clock::now();
  std::vector<Site> until_stop_;  ///< Sites that no settings name.
  std::vector<std::function<void()>> ends_;
  std::vector<std::function<void(const Settings&)>> applies_;
  std::thread joiner_;  ///< Waits for the workers' ends while the context still turns.
  std::size_t next_worker_ = 0;
  Shelf& shelf_;  ///< For clients that no worker has seen.
  bool stopping_ = false;
  bool is_paused_ = false;
  bool is_to_restart_ = false;
};

}  // namespace porter::server
