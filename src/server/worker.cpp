// A worker's thread, its timer for all deadlines, and its end.
#include "server/worker.hpp"

#include <sys/socket.h>
#include <unistd.h>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/post.hpp>
#include <cerrno>
#include <csignal>
#include <ctime>
#include <exception>
#include <new>
#include <utility>
#include <vector>

#include "core/files/descriptor.hpp"
#include "core/findings/resources.hpp"
#include "core/text/text.hpp"
#include "machine/php.hpp"
#include "server/connection/connection.hpp"

namespace porter::server {
namespace {

// One timer for all connections of a worker: deadlines are seconds, and a timer for each would cost more than it tells.
constexpr std::chrono::milliseconds kSweepEvery{250};
/// What has ended is gathered for this long, or until there is so much, before it is handed to the journal: each
/// handing over costs a turn of the thread's loop. The journal itself waits for some milliseconds more.
constexpr std::chrono::milliseconds kGatherRecords{3};
constexpr std::size_t kMostGathered = 64;

}  // namespace

void run_to_the_end(asio::io_context& context) {
  for (;;) {
    try {
      context.run();
      return;
    } catch (const std::exception&) {
      // What belonged to the handler has been given up on the way here; whoever comes next may have more luck.
    }
  }
}

Worker::Worker(Shared& shared, asio::io_context& context, std::shared_ptr<const Snapshot> snapshot,
               Responder& responder, std::atomic<std::size_t>& connections)
    : shared_(shared),
      context_(context),
      responder_(responder),
      counted_(connections),
      work_(context_.get_executor()),
      sweep_alarm_(context_.get_executor()),
      runs_(context_.get_executor()),
      served_(std::make_shared<Served>(std::move(snapshot))),
      flush_timer_(context_),
      shelf_(responder.is_recorded() ? &shared.exchanges.add_shelf() : nullptr) {}

WorkerThread::WorkerThread(Shared& shared, std::shared_ptr<const Snapshot> snapshot, Responder& responder)
    : context_(1), worker_(shared, context_, std::move(snapshot), responder, shared.connections) {
  thread_ = std::thread([this] {
    // Signals are the main thread's. Blocked, SIGCHLD would not be ignored any more, and each script's end would wake
    // another thread for nothing.
    sigset_t all;
    ::sigfillset(&all);
    ::sigdelset(&all, SIGCHLD);
    ::pthread_sigmask(SIG_SETMASK, &all, nullptr);
    run_to_the_end(context_);
  });
}

WorkerThread::~WorkerThread() { join(); }

void WorkerThread::join() {
  if (thread_.joinable()) thread_.join();
}

void Worker::adopt(int socket, const Endpoint& endpoint) {
  // Should memory be lacking, the connection is closed, and is counted no more.
  const auto count_down = [counted = &counted_] { counted->fetch_sub(1, std::memory_order_relaxed); };
  try {
    asio::post(context_, [this, socket, endpoint, count_down] {
      files::Descriptor open(socket);
      std::shared_ptr<Connection> connection;
      try {
        const int family = endpoint.ip.empty() ? AF_UNIX : endpoint.is_v6() ? AF_INET6 : AF_INET;
        Transport::Socket own(context_);
        own.assign(asio::generic::stream_protocol(family, 0), socket);
        open.release();
        connection = std::make_shared<Connection>(*this, std::move(own), endpoint);
      } catch (const std::exception&) {
        return count_down();
      }
      asio::co_spawn(context_, connection->serve(), [connection](const std::exception_ptr&) {});
    });
  } catch (const std::bad_alloc&) {
    ::close(socket);
    count_down();
  }
}

void Worker::note(const Finding& finding) {
  shared_.journal->write_note("          " + text::escape_line(sentence_of(finding)) + "\n");
}

void Worker::note_lack_of_memory() {
  constexpr std::time_t kTellEvery = 10;
  const std::time_t now = std::time(nullptr);
  if (now - memory_note_ < kTellEvery) return;
  memory_note_ = now;
  note(out_of_resources("answer a request, which was given up with 503", ENOMEM));
}

void Worker::take(std::shared_ptr<const Snapshot> snapshot) {
  asio::post(context_, [this, snapshot = std::move(snapshot)] {
    served_ = std::make_shared<Served>(snapshot);
    const std::vector<Connection*> all(connections_.begin(), connections_.end());
    for (Connection* const connection : all)
      if (snapshot->find(connection->endpoint()) == nullptr) connection->close_if_idle();
  });
}

void Worker::stop() {
  asio::post(context_, [this] {
    stopping_ = true;
    work_.reset();
    const std::vector<Connection*> all(connections_.begin(), connections_.end());
    for (Connection* const connection : all) connection->close_if_idle();
    arm_sweep();
    end_if_idle();
  });
}

void Worker::abort() {
  asio::post(context_, [this] {
    aborting_ = true;
    const std::vector<Connection*> all(connections_.begin(), connections_.end());
    for (Connection* const connection : all) connection->abort();
    runs_.terminate_all();
  });
}

const std::shared_ptr<run::PoolAccess>& Worker::pool_for(Served& served, const Site& site,
                                                         const sites::ScriptFound& script) {
  auto& known = served.pools[&site];
  for (const Served::PoolOf& one : known)
    if (one.rule == script.rule && one.program == script.interpreter) return one.share;
  const auto order =
      run::pool_order(served.snapshot->settings, site, *script.rule, script.interpreter, shared_.supplies);
  const auto pool = shared_.pools.of(order);
  known.push_back({script.rule, script.interpreter, std::make_shared<run::PoolAccess>(executor(), pool)});
  if (pool->is_to_be_watched() && order.external.empty())
    asio::co_spawn(context_, machine::watch_files(runs_, pool), [](const std::exception_ptr&) {});
  return known.back().share;
}

void Worker::record(Exchange&& exchange, const std::shared_ptr<AccessLogFile>& access_log) {
  answered_.store(answered_.load(std::memory_order_relaxed) + 1, std::memory_order_relaxed);
  if (access_log) {
    // Only after a reload there is another one; what was for the old one goes there.
    if (access_log_ != access_log) flush_records();
    access_log_ = access_log;
    append_access_line(access_, exchange, access_log->log().format);
  }
  // Nobody behind here tells the way, and what one thread has made another frees at three times the cost.
  exchange.trail.clear();
  // A burst is mostly as large as the one before.
  if (records_.empty()) records_.reserve(last_burst_);
  records_.push_back(std::move(exchange));
  if (records_.size() >= kMostGathered) return flush_records();
  if (is_flush_due_) return;
  flush_timer_.expires_after(kGatherRecords);
  flush_timer_.async_wait([this](const boost::system::error_code&) {
    is_flush_due_ = false;
    flush_records();
  });
  is_flush_due_ = true;
}

void Worker::hand_over_records(std::function<void()> then) {
  asio::post(context_, [this, then = std::move(then)] {
    flush_records();
    then();
  });
}

void Worker::flush_records() {
  if (!access_.empty()) access_log_->write(access_);
  access_.clear();
  access_log_.reset();
  last_burst_ = records_.size();
  if (records_.empty()) return;
  shared_.metrics.count(records_);
  shared_.journal->record(std::exchange(records_, {}));
}

void Worker::add(Connection& connection) {
  connections_.insert(&connection);
  arm_sweep();
}

void Worker::remove(Connection& connection) {
  connections_.erase(&connection);
  counted_.fetch_sub(1, std::memory_order_relaxed);
  end_if_idle();
}

void Worker::arm_sweep() {
  if (sweeping_ || (connections_.empty() && runs_.size() == 0)) return;
  // Where it cannot be set, the next connection sets it.
  sweeping_ = sweep_alarm_.set(Clock::now() + kSweepEvery, [this] {
    sweeping_ = false;
    sweep();
  });
}

void Worker::sweep() {
  // A program that was installed or taken away is seen by then.
  served_->programs.forget();
  const auto now = Clock::now();
  for (Connection* const connection : connections_) try {
      connection->check_deadlines(now);
    } catch (const std::bad_alloc&) {
      // It is looked at again soon.
    }
  arm_sweep();
  end_if_idle();
}

void Worker::end_if_idle() {
  if (!stopping_ || !connections_.empty()) return;
  // A script that went on after its response has no claim on a server that stops.
  runs_.terminate_all();
  if (runs_.size() != 0) return;
  sweeping_ = false;
  sweep_alarm_.cancel();
}

}  // namespace porter::server
