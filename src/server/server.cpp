// Accepting connections, handing them to workers in turn, exchanging settings, and stopping.
#include "server/server.hpp"

#include <fcntl.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <cerrno>
#include <climits>
#include <csignal>
#include <future>
#include <string_view>
#include <thread>

#include "core/findings/finding.hpp"
#include "core/findings/resources.hpp"
#include "machine/php.hpp"
#include "run/fresh/kin.hpp"

namespace porter::server {
namespace {

constexpr std::chrono::milliseconds kPauseBetweenWardens{100};
/// What a stop gets on top of the time that runs in progress get.
constexpr std::chrono::seconds kStopReserve{5};

/// The end that nothing can take away. Only calls that a signal handler may make; the warden ends what still runs.
void end_at_once(int) {
  constexpr std::string_view kWords = "The server did not come to its end in time, and is ended now.\n";
  [[maybe_unused]] const ssize_t written = ::write(STDERR_FILENO, kWords.data(), kWords.size());
  ::_exit(1);
}

/// Has the process end in `time`, by the system's own clock: no thread, timer or memory of ours is needed for it.
void set_last_resort(std::chrono::seconds time) {
  ::signal(SIGALRM, end_at_once);
  ::alarm(static_cast<unsigned>(std::min<std::chrono::seconds::rep>(time.count(), UINT_MAX / 2)));
}

/// Whether `socket` is one of the last descriptors, which are left to who steers the server, and to the requests that
/// are being answered. The system always gives the lowest number that is free.
bool takes_from_reserve(int socket) {
  constexpr rlim_t kReserve = 64;
  rlimit limit{};
  if (::getrlimit(RLIMIT_NOFILE, &limit) != 0 || limit.rlim_cur == RLIM_INFINITY) return false;
  return static_cast<rlim_t>(socket) >= limit.rlim_cur - std::min(kReserve, limit.rlim_cur / 8);
}

Finding is_stopping_finding() { return {Code::stopping, {}}; }

}  // namespace

Server::Server(Shared& shared, Settings settings, std::vector<ListeningSocket> entrances, std::size_t threads)
    : shared_(shared),
      context_(1),
      signals_(context_, SIGINT, SIGTERM, SIGHUP),
      patience_(context_),
      probes_(context_.get_executor()),
      warden_(context_),
      listeners_(context_, [this](int socket, const Endpoint& endpoint) { hand_over(socket, endpoint); }),
      shelf_(shared.exchanges.add_shelf()) {
  shared_.pools.set_keeper(context_.get_executor());
  snapshot_ = make_snapshot(std::move(settings));
  shared_.pools.set_memory_bound(snapshot_->settings.limits.pool_memory);
  for (std::size_t i = 0; i < threads; ++i) {
    workers_.push_back(std::make_unique<WorkerThread>(shared_, snapshot_, responder_));
  }
  listeners_.accept_on(std::move(entrances));
}

std::shared_ptr<const Snapshot> Server::make_snapshot(Settings settings) const {
  auto snapshot = std::make_shared<Snapshot>();
  snapshot->settings = std::move(settings);
  const Settings& now = snapshot->settings;
  snapshot->listeners = now.listeners();
  for (const Site& site : now.sites) snapshot->site_names.push_back(std::make_shared<const std::string>(site.name));
  // What did not change is kept: scripts that run and wait are counted on, and the log stays open.
  const std::size_t runs = run::runs_at_once(now.limits);
  const std::size_t most = now.limits.runs > 0 ? runs : run::kUsualMost;
  const run::Gate::Bounds bounds{runs, most, now.limits.runs_most, now.limits.queue};
  snapshot->gate = snapshot_ ? snapshot_->gate : std::make_shared<run::Gate>(bounds);
  snapshot->gate->set_bounds(bounds);
  const AccessLog& log = now.access_log;
  shared_.exchanges.set_bounds(now.exchanges);
  if (!log.file.empty())
    snapshot->access_log = std::make_shared<AccessLogFile>(log, snapshot_ ? snapshot_->access_log.get() : nullptr);
  return snapshot;
}

void Server::run(StartLines start, Hangup hangup, std::function<void()> ready) {
  shared_.journal->hold_back();
  asio::co_spawn(context_, show_start_lines(std::move(start), std::move(ready)), asio::detached);
  asio::co_spawn(context_, wait_for_signal(hangup), asio::detached);
  run_to_the_end(context_);
  joiner_.join();
  shared_.pools.clear();
  // Nothing of any run outlives the server, wherever it has gone.
  run::end_all_kin();
  if (warden_.is_open()) run::dismiss_warden({files::Descriptor(warden_.release()), warden_process_});
  if (is_to_restart_) heed_late_signals();
}

void Server::heed_late_signals() {
  // Nobody has waited for signals since the end began, and one that has come since then means that it is to be the end.
  context_.restart();
  signals_.async_wait([this](const boost::system::error_code& error, int) {
    if (!error) is_to_restart_ = false;
  });
  context_.poll();
  // From here on they end the process as any other, until the next one has set out to wait for them.
  boost::system::error_code ignored;
  signals_.clear(ignored);
  context_.poll();
}

void Server::keep_warden(run::Warden warden) {
  if (!warden.pipe.is_open()) return;
  warden_.assign(warden.pipe.release());
  warden_process_ = warden.process;
  asio::co_spawn(context_, watch_warden(), asio::detached);
}

asio::awaitable<void> Server::watch_warden() {
  asio::steady_timer pause(context_);
  while (!stopping_ && warden_.is_open()) {
    // Nobody reads at the other end: an error is all that can come.
    const auto [error] = co_await warden_.async_wait(asio::posix::stream_descriptor::wait_error, run::kAwait);
    if (stopping_ || error == asio::error::operation_aborted) co_return;
    pause.expires_after(kPauseBetweenWardens);
    co_await pause.async_wait(run::kAwait);
    run::dismiss_warden({files::Descriptor(warden_.release()), warden_process_});
    run::Warden next = run::start_warden(run::WardenIs::own);
    if (!next.pipe.is_open()) co_return;
    warden_.assign(next.pipe.release());
    warden_process_ = next.process;
  }
}

void Server::hand_over(int socket, const Endpoint& endpoint) {
  const std::size_t most = snapshot_->settings.limits.connections;
  // Whatever has been idle longest gives way to it.
  if (takes_from_reserve(socket) && !shared_.pools.end_longest_idle())
    return turn_away(socket, out_of_resources("take another connection", EMFILE));
  if (shared_.connections.fetch_add(1, std::memory_order_relaxed) >= most) {
    shared_.connections.fetch_sub(1, std::memory_order_relaxed);
    return turn_away(socket, {Code::too_many_connections, {{"limit", std::to_string(most)}}});
  }
  workers_[next_worker_]->worker().adopt(socket, endpoint);
  next_worker_ = (next_worker_ + 1) % workers_.size();
}

void Server::turn_away(int socket, const Finding& finding) {
  Exchange exchange;
  exchange.time = std::chrono::system_clock::now();
  exchange.begun = std::chrono::steady_clock::now();
  const Ends ends = ends_of(socket);
  const std::string sent = refuse_connection(socket, finding);
  if (!shelf_.keeps()) return;
  exchange.client = ends.client_address;
  exchange.method = exchange.target = "-";
  exchange.status = status_of(finding.code);
  exchange.body_bytes = sent.size() - std::min(sent.size(), sent.find("\r\n\r\n") + 4);
  exchange.by = ByProblem{};
  exchange.findings = {finding};
  const auto recording = shelf_.begin(exchange, {&ends, {}});
  if (!recording) return;
  recording->sent(sent);
  exchange.duration = std::chrono::steady_clock::now() - exchange.begun;
  recording->note(exchange);
}

std::vector<Finding> Server::show_until_stop(Site site) {
  until_stop_.push_back(std::move(site));
  auto findings = apply(snapshot_->settings);
  if (!findings.empty()) until_stop_.pop_back();
  return findings;
}

std::vector<Finding> Server::apply(Settings settings) {
  if (stopping_) return {is_stopping_finding()};
  for (const Site& site : until_stop_)
    if (settings.find_site(site.name) == nullptr) settings.sites.push_back(site);
  auto prepared = listeners_.prepare(is_paused_ ? std::vector<Listener>() : settings.listeners());
  if (auto* const findings = std::get_if<std::vector<Finding>>(&prepared)) return std::move(*findings);
  snapshot_ = make_snapshot(std::move(settings));
  give_to_workers();
  shared_.pools.set_memory_bound(snapshot_->settings.limits.pool_memory);
  shared_.pools.keep_only([this](const run::PoolOrder& order) { return is_still_wanted(order); });
  listeners_.commit(std::move(std::get<Listeners::Change>(prepared)));
  asio::co_spawn(context_, probe(), [](const std::exception_ptr&, const auto&) {});
  for (const auto& then : applies_) then(snapshot_->settings);
  return {};
}

bool Server::is_still_wanted(const run::PoolOrder& order) const {
  const Settings& settings = snapshot_->settings;
  const Site* const site = settings.find_site(order.site);
  if (site == nullptr) return false;
  const auto is_of = [&](const script::Interpreter& rule) {
    if (rule.language != order.language || !rule.is_persistent()) return false;
    const auto program = order.program.empty() ? "" : files::find_program(rule.program, shared_.search_path);
    return run::pool_order(settings, *site, rule, program, shared_.supplies) == order;
  };
  const auto& languages = settings.languages_of(*site);
  return std::any_of(languages.begin(), languages.end(), is_of) ||
         std::any_of(site->mounts.begin(), site->mounts.end(),
                     [&](const Mount& mount) { return mount.program && is_of(*mount.program); });
}

void Server::give_to_workers() {
  auto given = snapshot_;
  if (is_paused_) {
    // A connection whose address is gone is closed as soon as it is idle.
    auto closed = std::make_shared<Snapshot>(*snapshot_);
    closed->listeners.clear();
    given = std::move(closed);
  }
  for (const auto& thread : workers_) thread->worker().take(given);
}

void Server::pause() {
  if (is_paused_ || stopping_) return;
  is_paused_ = true;
  listeners_.commit({});
  give_to_workers();
  tell_state();
}

std::vector<Finding> Server::resume() {
  if (stopping_) return {is_stopping_finding()};
  if (!is_paused_) return {};
  auto prepared = listeners_.prepare(snapshot_->listeners);
  if (auto* const findings = std::get_if<std::vector<Finding>>(&prepared)) return std::move(*findings);
  is_paused_ = false;
  give_to_workers();
  listeners_.commit(std::move(std::get<Listeners::Change>(prepared)));
  tell_state();
  return {};
}

bool Server::restart() {
  if (stopping_) return is_to_restart_;
  is_to_restart_ = true;
  begin_to_stop();
  return true;
}

std::string_view Server::state() const { return stopping_ ? "stopping" : is_paused_ ? "paused" : "running"; }

void Server::tell_state() { shared_.events.publish("state", "{\"state\":\"" + std::string(state()) + "\"}"); }

std::optional<Finding> Server::problem() {
  if (const int error = listeners_.error()) return out_of_resources("take connections", error);
  const files::Descriptor next(::fcntl(STDIN_FILENO, F_DUPFD_CLOEXEC, 0));
  const bool is_scarce = next.is_open() ? takes_from_reserve(next.get()) : errno == EMFILE || errno == ENFILE;
  if (is_scarce) return out_of_resources("take connections", EMFILE);
  return shared_.long_waits.finding();
}

std::uint64_t Server::requests_answered() const {
  std::uint64_t all = 0;
  for (const auto& thread : workers_) all += thread->worker().answered();
  return all;
}

std::vector<std::future<void>> Server::have_records_handed_over() {
  std::vector<std::future<void>> out;
  for (const auto& thread : workers_) {
    auto told = std::make_shared<std::promise<void>>();
    out.push_back(told->get_future());
    thread->worker().hand_over_records([told] { told->set_value(); });
  }
  return out;
}

asio::awaitable<void> Server::bring_journal_up_to_date() {
  static constexpr std::chrono::milliseconds kMoment{500};
  auto catching_up = shared_.helpers.quick.run([this, handed_over = have_records_handed_over()]() mutable {
    const auto until = std::chrono::steady_clock::now() + kMoment;
    for (const auto& one : handed_over) one.wait_until(until);
    shared_.journal->catch_up();
    return true;
  });
  co_await std::move(catching_up);
}

asio::awaitable<void> Server::bring_metrics_up_to_date() {
  // A worker that has more to do than that hands over by itself within 3 ms.
  static constexpr std::chrono::milliseconds kMoment{4};
  auto waiting = shared_.helpers.quick.run([handed_over = have_records_handed_over()]() mutable {
    const auto until = std::chrono::steady_clock::now() + kMoment;
    for (const auto& one : handed_over) one.wait_until(until);
    return true;
  });
  co_await std::move(waiting);
}

void Server::reopen_logs() {
  if (snapshot_->access_log) snapshot_->access_log->reopen();
}

void Server::forget_compiled() {
  machine::set_opcodes_aside(shared_.supplies.opcodes);
  for (const auto& pool : shared_.pools.all()) pool->files().begin_generation();
  asio::co_spawn(context_, shared_.helpers.lengthy.run([folder = shared_.supplies.opcodes] {
    machine::remove_opcodes_aside(folder);
    return true;
  }),
                 [](const std::exception_ptr&, bool) {});
}

asio::awaitable<std::shared_ptr<const Server::FoundInterpreters>> Server::probe() {
  const auto snapshot = snapshot_;
  auto looking = machine::probe_interpreters(probes_, snapshot->settings, shared_.search_path, versions_);
  const auto found = std::make_shared<const FoundInterpreters>(co_await std::move(looking));
  // Of several looks at once the one for the latest settings counts, whichever is over last.
  if (snapshot == snapshot_) interpreters_ = found;
  co_return found;
}

asio::awaitable<void> Server::show_start_lines(StartLines start, std::function<void()> ready) {
  const auto found = co_await probe();
  start.interpreters = *found;
  shared_.journal->release(text_of(start, shared_.journal->colour()));
  if (ready) ready();
}

asio::awaitable<void> Server::wait_for_signal(Hangup hangup) {
  for (;;) {
    const auto [error, signal] = co_await signals_.async_wait(run::kAwait);
    if (error) co_return;
    if (signal == SIGHUP && hangup == Hangup::reopens_logs) {
      reopen_logs();
      continue;
    }
    is_to_restart_ = false;
    if (stopping_) break;  // Whoever asks twice does not want to wait for what is in progress.
    stop();
  }
  patience_.cancel();
}

void Server::stop() {
  // Who wants it to end does not want it to come again.
  is_to_restart_ = false;
  if (!stopping_) begin_to_stop();
}

void Server::begin_to_stop() {
  stopping_ = true;
  set_last_resort(snapshot_->settings.limits.stop_time + kStopReserve);
  tell_state();
  listeners_.close();
  probes_.terminate_all();
  shared_.pools.close();
  for (const auto& thread : workers_) thread->worker().stop();
  // The workers end by themselves as soon as nothing is in progress; this only bounds it.
  patience_.expires_after(snapshot_->settings.limits.stop_time);
  patience_.async_wait([this](const boost::system::error_code&) {
    for (const auto& thread : workers_) thread->worker().abort();
  });
  joiner_ = std::thread([this] {
    for (const auto& thread : workers_) thread->join();
    asio::post(context_, [this] {
      patience_.cancel();
      signals_.cancel();
      warden_.cancel();
      for (const auto& end : ends_) end();
    });
  });
}

}  // namespace porter::server
