// A worker: one thread with its io_context and the connections that stay on it.
//
// Everything of a connection happens on its worker's thread, so nothing on the way of a request needs a lock. Only
// adopt(), take(), stop() and abort() may be called from other threads.
#pragma once

#include <sys/socket.h>

#include <atomic>
#include <boost/asio/executor_work_guard.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/steady_timer.hpp>
#include <chrono>
#include <cstddef>
#include <memory>
#include <string>
#include <string_view>
#include <thread>
#include <unordered_map>
#include <unordered_set>

#include "core/settings/settings.hpp"
#include "run/gate.hpp"
#include "run/helpers.hpp"
#include "run/run.hpp"
#include "server/record/journal.hpp"
#include "server/record/log_line.hpp"
#include "server/snapshot.hpp"

namespace porter::server {

namespace asio = boost::asio;

class Connection;

/// Runs the handlers of `context` until none is left. One that lacks memory fails alone, and the others go on.
void run_to_the_end(asio::io_context& context);

/// What all workers share. It is made before the first worker and outlives the last.
struct Shared {
  std::unordered_map<std::string, std::string> system_types;  ///< Media types by ending, from the system's list.
  std::vector<std::string> passed_on;                         ///< Environment that scripts get from the server's own.
  Journal* journal = nullptr;
  Colour colour = Colour::off;
  std::atomic<std::size_t> connections{0};
  run::Helpers helpers;
};

class Worker {
 public:
  Worker(Shared& shared, std::shared_ptr<const Snapshot> snapshot);
  ~Worker();
  Worker(const Worker&) = delete;
  Worker& operator=(const Worker&) = delete;

  /// Takes over a connection that came in at `endpoint`, and serves it. From any thread.
  void adopt(asio::ip::tcp::socket::native_handle_type socket, const Endpoint& endpoint);
  /// From its next request on, each connection is served by `snapshot`; those whose address is gone are closed when
  /// they are idle. From any thread.
  void take(std::shared_ptr<const Snapshot> snapshot);
  /// Lets what is in progress finish, and ends the thread then. From any thread.
  void stop();
  /// Cuts off what is in progress. From any thread, after stop().
  void abort();
  /// Waits for the thread's end.
  void join();

  Shared& shared() { return shared_; }
  run::RunSet& runs() { return runs_; }
  const std::shared_ptr<Served>& served() const { return served_; }
  /// Requests answered so far. From any thread.
  std::uint64_t answered() const { return answered_.load(std::memory_order_relaxed); }
  bool is_stopping() const { return stopping_; }

  /// The Date field's line for now and the empty line that ends a head; made anew each second.
  std::string_view date_and_end();

  /// Appends to the journal; handed over once the handlers that are ready have run, so a burst is one hand-over.
  void log(const LogLine& line);
  /// The same for the access log, `to`.
  void log_access(const std::shared_ptr<AccessLogFile>& to, const AccessLine& line);

  /// Tells in the journal, from time to time, that requests are given up for lack of memory.
  void note_lack_of_memory();

  void add(Connection& connection);
  void remove(Connection& connection);

 private:
  void sweep();
  void arm_sweep();
  void end_if_idle();
  void flush_log();

  Shared& shared_;
  asio::io_context context_;
  asio::executor_work_guard<asio::io_context::executor_type> work_;
  asio::steady_timer sweep_timer_;
  std::unordered_set<Connection*> connections_;
  run::RunSet runs_;
  std::string log_;
  std::vector<Journal::Mark> marks_;
  std::string access_;
  std::shared_ptr<AccessLogFile> access_log_;  ///< Where access_ goes.
  std::shared_ptr<Served> served_;
  std::atomic<std::uint64_t> answered_{0};
  std::time_t memory_note_ = 0;  ///< When lack of memory was last told of.
  bool log_flush_posted_ = false;
  bool sweeping_ = false;
  bool stopping_ = false;
  bool aborting_ = false;
  std::time_t date_second_ = 0;
  std::string date_and_end_;
  std::thread thread_;
};

}  // namespace porter::server
