// A worker: the connections that are on one io_context, which one thread runs, and all that they share. A connection
// stays there from its beginning to its end.
//
// Everything of a connection happens on its worker's thread, so nothing on the way of a request needs a lock. Only
// adopt(), take(), stop() and abort() may be called from other threads.
#pragma once

#include <atomic>
#include <boost/asio/executor_work_guard.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/steady_timer.hpp>
#include <chrono>
#include <cstddef>
#include <memory>
#include <string>
#include <string_view>
#include <thread>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "core/settings/settings.hpp"
#include "run/fresh/run.hpp"
#include "run/gate.hpp"
#include "run/helpers.hpp"
#include "run/pool/pool.hpp"
#include "server/record/event_hub.hpp"
#include "server/record/exchange_store.hpp"
#include "server/record/journal.hpp"
#include "server/record/long_waits.hpp"
#include "server/record/metrics.hpp"
#include "server/record/told_once.hpp"
#include "server/response/writer.hpp"
#include "server/shared_note.hpp"
#include "server/snapshot.hpp"

namespace porter::server {

namespace asio = boost::asio;

class Responder;
class Connection;
class Worker;

/// Runs the handlers of `context` until none is left. One that lacks memory fails alone, and the others go on.
void run_to_the_end(asio::io_context& context);

/// What all workers share. It is made before the first worker and outlives the last.
struct Shared {
  std::unordered_map<std::string, std::string> system_types;  ///< Media types by ending, from the system's list.
  run::Supplies supplies;                                     ///< What scripts get from the server.
  run::Pools pools;
  std::string search_path;  ///< Where interpreters are looked for, as in PATH.
  Journal* journal = nullptr;
  std::atomic<std::size_t> connections{0};     ///< Of clients of the sites.
  std::atomic<std::uint16_t> console_port{0};  ///< Where the console is; 0: there is none.
  /// Helpers for each kind of work, so that none waits for another kind.
  struct {
    run::Helpers quick{2};     ///< What needs nothing but memory.
    run::Helpers settings{1};  ///< Reading and writing the settings.
    run::Helpers folders{16};  ///< Looking at folders and names for the control interface, which may hang.
    run::Helpers pages{2};     ///< The same for requests: long listings, near names in large folders.
    run::Helpers lengthy{2};   ///< Exports, searches and comparisons.
  } helpers;
  SharedNote refused_settings;  ///< Why the settings as they were saved last are not gone by; empty: they are.
  LongWaits long_waits;
  Metrics metrics;
  ToldOnce told_once;  ///< Remarks that are not worth being told at each request.
  ExchangeStore exchanges;
  EventHub events{exchanges};
};

class Worker {
 public:
  /// Its connections run on `context`, are answered by `responder`, and are counted in `connections`.
  Worker(Shared& shared, asio::io_context& context, std::shared_ptr<const Snapshot> snapshot, Responder& responder,
         std::atomic<std::size_t>& connections);
  Worker(const Worker&) = delete;
  Worker& operator=(const Worker&) = delete;

  /// Takes over a connection that came in at `endpoint` (empty: at a Unix socket) and has been counted, and serves it.
  /// From any thread.
  void adopt(int socket, const Endpoint& endpoint);
  /// From its next request on, each connection is served by `snapshot`; those whose address is gone are closed when
  /// they are idle. From any thread.
  void take(std::shared_ptr<const Snapshot> snapshot);
  /// Lets what is in progress finish, and has nothing more to do then. From any thread.
  void stop();
  /// Cuts off what is in progress. From any thread, after stop().
  void abort();

  Shared& shared() { return shared_; }
  asio::io_context::executor_type executor() { return context_.get_executor(); }
  Responder& responder() { return responder_; }
  run::RunSet& runs() { return runs_; }
  /// What is kept for the interpreter of a script, in the words of `served`.
  const std::shared_ptr<run::PoolAccess>& pool_for(Served& served, const Site& site, const sites::ScriptFound& script);
  const std::shared_ptr<Served>& served() const { return served_; }
  /// Requests answered so far. From any thread.
  std::uint64_t answered() const { return answered_.load(std::memory_order_relaxed); }
  bool is_stopping() const { return stopping_; }

  DateLine& date_line() { return date_line_; }
  /// Where exchanges are kept; null: they are not.
  Shelf* shelf() { return shelf_; }

  /// Hands an exchange that is over to the journal and to the access log, which may be null; once the handlers that are
  /// ready have run, so that a burst is one hand-over.
  void record(Exchange&& exchange, const std::shared_ptr<AccessLogFile>& access_log);

  /// Tells of `finding` in the journal.
  void note(const Finding& finding);
  /// Tells in the journal, from time to time, that requests are given up for lack of memory.
  void note_lack_of_memory();

  /// Hands over what record() has gathered, and calls `then`. From any thread.
  void hand_over_records(std::function<void()> then);

  void add(Connection& connection);
  void remove(Connection& connection);

 private:
  void sweep();
  void arm_sweep();
  void end_if_idle();
  /// Hands over what record() has gathered.
  void flush_records();

  Shared& shared_;
  asio::io_context& context_;
  Responder& responder_;
  std::atomic<std::size_t>& counted_;
  asio::executor_work_guard<asio::io_context::executor_type> work_;
  run::Alarm sweep_alarm_;
  std::unordered_set<Connection*> connections_;
  run::RunSet runs_;
  std::vector<Exchange> records_;
  std::string access_;
  std::shared_ptr<AccessLogFile> access_log_;  ///< Where access_ goes.
  std::shared_ptr<Served> served_;
  std::atomic<std::uint64_t> answered_{0};
  std::time_t memory_note_ = 0;  ///< When lack of memory was last told of.
  std::size_t last_burst_ = 0;   ///< How many exchanges were handed over together last.
  asio::steady_timer flush_timer_;
  bool is_flush_due_ = false;
  bool sweeping_ = false;
  bool stopping_ = false;
  bool aborting_ = false;
  Shelf* const shelf_;
  DateLine date_line_;
};

/// A worker with an io_context and a thread of its own.
class WorkerThread {
 public:
  WorkerThread(Shared& shared, std::shared_ptr<const Snapshot> snapshot, Responder& responder);
  ~WorkerThread();
  Worker& worker() { return worker_; }
  /// Waits for the thread's end, which comes after the worker's stop().
  void join();

 private:
  asio::io_context context_;
  Worker worker_;
  std::thread thread_;
};

}  // namespace porter::server
