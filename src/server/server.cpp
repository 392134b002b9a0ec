// Accepting connections, handing them to workers in turn, and stopping.
#include "server/server.hpp"

#include <sys/socket.h>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <csignal>
#include <thread>

#include "core/findings/finding.hpp"
#include "run/probe.hpp"

namespace porter::server {
namespace {

/// The protocol of a listening socket.
asio::ip::tcp protocol_of(int socket) {
  int domain = AF_INET;
  socklen_t length = sizeof domain;
  ::getsockopt(socket, SOL_SOCKET, SO_DOMAIN, &domain, &length);
  return domain == AF_INET6 ? asio::ip::tcp::v6() : asio::ip::tcp::v4();
}

constexpr std::chrono::milliseconds kPauseWithoutDescriptors{100};

}  // namespace

Server::Server(Shared& shared, Listening listening, std::size_t threads)
    : shared_(shared), context_(1), signals_(context_, SIGINT, SIGTERM, SIGHUP), patience_(context_) {
  for (files::Descriptor& socket : listening.sockets)
    acceptors_.emplace_back(context_, protocol_of(socket.get()), socket.release());
  for (std::size_t i = 0; i < threads; ++i) workers_.push_back(std::make_unique<Worker>(shared_));
}

void Server::run(StartLines start) {
  shared_.journal->hold_back();
  for (asio::ip::tcp::acceptor& acceptor : acceptors_) asio::co_spawn(context_, accept(acceptor), asio::detached);
  asio::co_spawn(context_, show_start_lines(std::move(start)), asio::detached);
  asio::co_spawn(context_, wait_for_signal(), asio::detached);
  context_.run();
  joiner_.join();
}

asio::awaitable<void> Server::accept(asio::ip::tcp::acceptor& acceptor) {
  while (!stopping_) {
    auto [error, socket] = co_await acceptor.async_accept(run::kAwait);
    if (error == asio::error::operation_aborted || stopping_) co_return;
    if (error) {
      // Out of descriptors: trying again at once would only turn in circles until one is free.
      asio::steady_timer pause(context_, kPauseWithoutDescriptors);
      co_await pause.async_wait(run::kAwait);
      continue;
    }
    if (shared_.connections.fetch_add(1, std::memory_order_relaxed) >= shared_.settings->limits.connections) {
      shared_.connections.fetch_sub(1, std::memory_order_relaxed);
      refuse(std::move(socket));
      continue;
    }
    const asio::ip::tcp protocol = acceptor.local_endpoint().protocol();
    workers_[next_worker_]->adopt(socket.release(), protocol);
    next_worker_ = (next_worker_ + 1) % workers_.size();
  }
}

void Server::refuse(asio::ip::tcp::socket socket) {
  const Finding finding{Code::too_many_connections, {{"limit", std::to_string(shared_.settings->limits.connections)}}};
  const std::string body = sentence_of(finding) + "\n";
  const std::string answer =
      "HTTP/1.1 503 Service Unavailable\r\nRetry-After: 2\r\nConnection: close\r\nContent-Type: text/plain; "
      "charset=utf-8\r\nContent-Length: " +
      std::to_string(body.size()) + "\r\n\r\n" + body;
  boost::system::error_code ignored;
  socket.non_blocking(true, ignored);
  socket.send(asio::buffer(answer), 0, ignored);
  socket.shutdown(asio::ip::tcp::socket::shutdown_send, ignored);
}

asio::awaitable<void> Server::show_start_lines(StartLines start) {
  start.interpreters = co_await run::probe_interpreters(probes_, shared_.settings->search_path);
  shared_.journal->release(text_of(start, shared_.colour));
}

asio::awaitable<void> Server::wait_for_signal() {
  co_await signals_.async_wait(run::kAwait);
  stop();
  // Whoever asks twice does not want to wait for what is in progress.
  const auto [error, signal] = co_await signals_.async_wait(run::kAwait);
  if (!error) patience_.cancel();
}

void Server::stop() {
  stopping_ = true;
  boost::system::error_code ignored;
  for (asio::ip::tcp::acceptor& acceptor : acceptors_) acceptor.close(ignored);
  probes_.terminate_all();
  for (const auto& worker : workers_) worker->stop();
  // The workers end by themselves as soon as nothing is in progress; this only bounds it.
  patience_.expires_after(shared_.settings->limits.stop_time);
  patience_.async_wait([this](const boost::system::error_code&) {
    for (const auto& worker : workers_) worker->abort();
  });
  joiner_ = std::thread([this] {
    for (const auto& worker : workers_) worker->join();
    asio::post(context_, [this] {
      patience_.cancel();
      signals_.cancel();
    });
  });
}

}  // namespace porter::server
