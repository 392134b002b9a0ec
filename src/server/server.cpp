// Accepting connections, handing them to workers in turn, exchanging settings, and stopping.
#include "server/server.hpp"

#include <sys/socket.h>

#include <algorithm>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <csignal>
#include <thread>

#include "core/findings/finding.hpp"
#include "run/kin.hpp"
#include "server/pages/frame.hpp"

namespace porter::server {
namespace {

constexpr std::chrono::milliseconds kPauseWithoutDescriptors{100};
constexpr std::chrono::milliseconds kPauseBetweenWardens{100};

std::vector<Endpoint> endpoints_of(const std::vector<Listener>& listeners) {
  std::vector<Endpoint> out;
  for (const Listener& listener : listeners)
    for (const Endpoint& endpoint : listener.address.endpoints()) out.push_back(endpoint);
  return out;
}

bool contains(const std::vector<Endpoint>& all, const Endpoint& one) {
  return std::find(all.begin(), all.end(), one) != all.end();
}

}  // namespace

Server::Server(Shared& shared, Settings settings, std::vector<Door> doors, std::size_t threads)
    : shared_(shared),
      context_(1),
      signals_(context_, SIGINT, SIGTERM, SIGHUP),
      patience_(context_),
      probes_(context_.get_executor()),
      warden_(context_) {
  snapshot_ = make_snapshot(std::move(settings));
  for (std::size_t i = 0; i < threads; ++i) workers_.push_back(std::make_unique<Worker>(shared_, snapshot_));
  open(std::move(doors));
}

std::shared_ptr<const Snapshot> Server::make_snapshot(Settings settings) const {
  auto snapshot = std::make_shared<Snapshot>();
  snapshot->settings = std::move(settings);
  const Settings& now = snapshot->settings;
  snapshot->listeners = now.listeners();
  for (const Site& site : now.sites) snapshot->site_numbers.push_back(shared_.journal->site_number(site.name));
  // What did not change is kept: scripts that run and wait are counted on, and the log stays open.
  const std::size_t cores = std::max<std::size_t>(1, std::thread::hardware_concurrency());
  const std::size_t runs = now.limits.runs > 0 ? now.limits.runs : 2 * cores;
  const bool same_gate =
      snapshot_ && snapshot_->gate->most_running() == runs && snapshot_->gate->most_waiting() == now.limits.queue;
  snapshot->gate = same_gate ? snapshot_->gate : std::make_shared<run::Gate>(runs, now.limits.queue);
  const AccessLog& log = now.access_log;
  const bool same_log = snapshot_ && snapshot_->access_log && snapshot_->access_log->log().file == log.file &&
                        snapshot_->access_log->log().format == log.format;
  if (same_log) {
    snapshot->access_log = snapshot_->access_log;
  } else if (!log.file.empty()) {
    snapshot->access_log = std::make_shared<AccessLogFile>(log);
  }
  return snapshot;
}

void Server::open(std::vector<Door> doors) {
  for (Door& door : doors) {
    const asio::ip::tcp protocol = door.endpoint.is_v6() ? asio::ip::tcp::v6() : asio::ip::tcp::v4();
    auto acceptor = std::make_shared<asio::ip::tcp::acceptor>(context_, protocol, door.socket.release());
    asio::co_spawn(context_, accept(acceptor, door.endpoint), asio::detached);
    entrances_.push_back({door.endpoint, std::move(acceptor)});
  }
}

void Server::run(StartLines start, Hangup hangup, std::function<void()> ready) {
  shared_.journal->hold_back();
  asio::co_spawn(context_, show_start_lines(std::move(start), std::move(ready)), asio::detached);
  asio::co_spawn(context_, wait_for_signal(hangup), asio::detached);
  run_to_the_end(context_);
  joiner_.join();
  // Nothing of any run outlives the server, wherever it has gone.
  run::end_all_kin();
  if (warden_.is_open()) run::dismiss_warden({files::Descriptor(warden_.release()), warden_process_});
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

asio::awaitable<void> Server::accept(std::shared_ptr<asio::ip::tcp::acceptor> acceptor, Endpoint endpoint) {
  asio::steady_timer pause(context_);
  while (!stopping_ && acceptor->is_open()) {
    bool has_failed = false;
    try {
      auto [error, socket] = co_await acceptor->async_accept(run::kAwait);
      if (error == asio::error::operation_aborted || stopping_) co_return;
      has_failed = error.failed();
      if (!error) hand_over(socket.release(), endpoint);
    } catch (const std::bad_alloc&) {
      has_failed = true;
    }
    if (!has_failed) continue;
    // Out of descriptors or memory: trying again at once would only turn in circles until some is free.
    pause.expires_after(kPauseWithoutDescriptors);
    co_await pause.async_wait(run::kAwait);
  }
}

void Server::hand_over(int socket, const Endpoint& endpoint) {
  const std::size_t most = snapshot_->settings.limits.connections;
  if (shared_.connections.fetch_add(1, std::memory_order_relaxed) >= most) {
    shared_.connections.fetch_sub(1, std::memory_order_relaxed);
    const asio::ip::tcp protocol = endpoint.is_v6() ? asio::ip::tcp::v6() : asio::ip::tcp::v4();
    refuse(asio::ip::tcp::socket(context_, protocol, socket));
    return;
  }
  workers_[next_worker_]->adopt(socket, endpoint);
  next_worker_ = (next_worker_ + 1) % workers_.size();
}

void Server::refuse(asio::ip::tcp::socket socket) {
  const Finding finding{Code::too_many_connections,
                        {{"limit", std::to_string(snapshot_->settings.limits.connections)}}};
  const std::string body = sentence_of(finding) + "\n";
  const std::string answer =
      "HTTP/1.1 503 Service Unavailable\r\nRetry-After: 2\r\nConnection: close\r\nContent-Type: text/plain; "
      "charset=utf-8\r\nX-Content-Type-Options: nosniff\r\nContent-Security-Policy: " +
      std::string(pages::kTextPolicy) + "\r\nContent-Length: " + std::to_string(body.size()) + "\r\n\r\n" + body;
  boost::system::error_code ignored;
  socket.non_blocking(true, ignored);
  socket.send(asio::buffer(answer), 0, ignored);
  socket.shutdown(asio::ip::tcp::socket::shutdown_send, ignored);
}

void Server::drain_and_close(Entrance& entrance) {
  // Closing a listening socket resets the connections that wait in it, so they are taken in first.
  for (;;) {
    const int socket = ::accept4(entrance.acceptor->native_handle(), nullptr, nullptr, SOCK_CLOEXEC);
    if (socket < 0) break;
    hand_over(socket, entrance.endpoint);
  }
  boost::system::error_code ignored;
  entrance.acceptor->close(ignored);
}

std::vector<Finding> Server::apply(Settings settings) {
  const std::vector<Endpoint> wanted = endpoints_of(settings.listeners());
  std::vector<Endpoint> present;
  for (const Entrance& entrance : entrances_) present.push_back(entrance.endpoint);
  std::vector<Door> doors;
  std::vector<Finding> findings;
  std::vector<Address> conflicting;
  for (const Listener& listener : settings.listeners()) {
    Address address = listener.address;
    auto opened = listen_on(address, present);
    if (auto* const some = std::get_if<std::vector<Door>>(&opened)) {
      std::move(some->begin(), some->end(), std::back_inserter(doors));
      continue;
    }
    const ListenError error = std::get<ListenError>(opened);
    // Going from localhost to network, say, the port is taken by ourselves, on an address that is about to be closed.
    const bool is_ours = std::any_of(present.begin(), present.end(), [&](const Endpoint& own) {
      return own.port == address.port && !contains(wanted, own);
    });
    if (error.number == EADDRINUSE && is_ours) {
      conflicting.push_back(address);
    } else {
      findings.push_back(listen_finding(address, error));
    }
  }
  if (!findings.empty()) return findings;

  auto before = snapshot_;
  snapshot_ = make_snapshot(std::move(settings));
  const auto close_unwanted = [&](auto is_unwanted) {
    for (Entrance& entrance : entrances_)
      if (is_unwanted(entrance.endpoint)) drain_and_close(entrance);
    std::erase_if(entrances_, [](const Entrance& entrance) { return !entrance.acceptor->is_open(); });
  };
  for (Address& address : conflicting) {
    close_unwanted([&](const Endpoint& own) { return own.port == address.port && !contains(wanted, own); });
    auto opened = listen_on(address, present);
    if (auto* const some = std::get_if<std::vector<Door>>(&opened)) {
      std::move(some->begin(), some->end(), std::back_inserter(doors));
    } else {
      findings.push_back(listen_finding(address, std::get<ListenError>(opened)));
    }
  }
  if (!findings.empty()) {
    // Another program holds the port on a further address: back to what was.
    snapshot_ = before;
    doors.clear();
    present.clear();
    for (const Entrance& entrance : entrances_) present.push_back(entrance.endpoint);
    for (const Listener& listener : snapshot_->listeners) {
      Address address = listener.address;
      auto opened = listen_on(address, present);
      if (auto* const some = std::get_if<std::vector<Door>>(&opened)) open(std::move(*some));
    }
    return findings;
  }
  for (const auto& worker : workers_) worker->take(snapshot_);
  open(std::move(doors));
  close_unwanted([&](const Endpoint& own) { return !contains(wanted, own); });
  asio::co_spawn(context_, probe(), asio::detached);
  return findings;
}

std::uint64_t Server::requests_answered() const {
  std::uint64_t all = 0;
  for (const auto& worker : workers_) all += worker->answered();
  return all;
}

void Server::reopen_logs() {
  if (snapshot_->access_log) snapshot_->access_log->reopen();
}

asio::awaitable<void> Server::probe() {
  const auto snapshot = snapshot_;
  auto found = co_await machine::probe_interpreters(probes_, snapshot->settings, versions_);
  interpreters_ = std::move(found);
}

asio::awaitable<void> Server::show_start_lines(StartLines start, std::function<void()> ready) {
  co_await probe();
  start.interpreters = interpreters_;
  shared_.journal->release(text_of(start, shared_.colour));
  if (ready) ready();
}

asio::awaitable<void> Server::wait_for_signal(Hangup hangup) {
  for (;;) {
    const auto [error, signal] = co_await signals_.async_wait(run::kAwait);
    if (error) co_return;
    if (stopping_) break;  // Whoever asks twice does not want to wait for what is in progress.
    if (signal == SIGHUP && hangup == Hangup::reopens_logs) {
      reopen_logs();
    } else {
      stop();
    }
  }
  patience_.cancel();
}

void Server::stop() {
  if (stopping_) return;
  stopping_ = true;
  boost::system::error_code ignored;
  for (Entrance& entrance : entrances_) entrance.acceptor->close(ignored);
  probes_.terminate_all();
  for (const auto& worker : workers_) worker->stop();
  // The workers end by themselves as soon as nothing is in progress; this only bounds it.
  patience_.expires_after(snapshot_->settings.limits.stop_time);
  patience_.async_wait([this](const boost::system::error_code&) {
    for (const auto& worker : workers_) worker->abort();
  });
  joiner_ = std::thread([this] {
    for (const auto& worker : workers_) worker->join();
    asio::post(context_, [this] {
      patience_.cancel();
      signals_.cancel();
      warden_.cancel();
      for (const auto& end : ends_) end();
    });
  });
}

}  // namespace porter::server
