// The server as a whole: its addresses, its workers, its signals.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/signal_set.hpp>
#include <cstddef>
#include <memory>
#include <thread>
#include <vector>

#include "server/addresses.hpp"
#include "server/start_lines.hpp"
#include "server/worker.hpp"

namespace porter::server {

class Server {
 public:
  /// `threads` is at least 1. Connections are accepted from now on, and answered once run() is called.
  Server(Shared& shared, Listening listening, std::size_t threads);

  /// Serves until SIGINT, SIGTERM or SIGHUP, then lets what is in progress finish. `start` is completed with what is
  /// found out after the start, and shown in the journal.
  void run(StartLines start);

 private:
  asio::awaitable<void> accept(asio::ip::tcp::acceptor& acceptor);
  void refuse(asio::ip::tcp::socket socket);
  asio::awaitable<void> show_start_lines(StartLines start);
  asio::awaitable<void> wait_for_signal();
  void stop();

  Shared& shared_;
  asio::io_context context_;
  asio::signal_set signals_;
  asio::steady_timer patience_;
  run::RunSet probes_;
  std::vector<asio::ip::tcp::acceptor> acceptors_;
  std::vector<std::unique_ptr<Worker>> workers_;
  std::thread joiner_;  ///< Waits for the workers' ends while the context still turns.
  std::size_t next_worker_ = 0;
  bool stopping_ = false;
};

}  // namespace porter::server
