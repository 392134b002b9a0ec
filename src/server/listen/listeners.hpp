// The entrances of the server: the sockets that are listened on at the moment, opened and closed here alone.
//
// All functions are called on the thread of the io_context.
#pragma once

#include <boost/asio/io_context.hpp>
#include <boost/asio/ip/tcp.hpp>
#include <chrono>
#include <functional>
#include <memory>
#include <variant>
#include <vector>

#include "core/settings/settings.hpp"
#include "run/alarm.hpp"
#include "server/listen/addresses.hpp"

namespace porter::server {

namespace asio = boost::asio;

/// What prepare() has made is either carried out or let go of before the next is prepared.
class Listeners {
 public:
  /// `take` is given each connection that comes in, with the endpoint that it came to. It may throw std::bad_alloc;
  /// then the connection is lost.
  Listeners(asio::io_context& context, std::function<void(int socket, const Endpoint& endpoint)> take)
      : context_(context), take_(std::move(take)) {}
  Listeners(const Listeners&) = delete;
  Listeners& operator=(const Listeners&) = delete;

  /// Lets connections in at entrances that have been opened.
  void accept_on(std::vector<ListeningSocket> opened);

  /// A change of the entrances that has been prepared: what is to be opened is open, but nobody is let in yet.
  struct Change {
    std::vector<ListeningSocket> opened;
    std::vector<Endpoint> wanted;  ///< Those that are to be there afterwards.
  };
  /// Opens what `listeners` need and is not open yet. If that cannot be done, all is as it was, and the findings tell
  /// why. Where a new address needs a port of which an unwanted one has a part, that one is closed already here.
  std::variant<Change, std::vector<Finding>> prepare(const std::vector<Listener>& listeners);
  /// Lets connections in at the new ones, and closes those that are not wanted any more.
  void commit(Change change);

  /// Closes all of them. Connections that wait are reset.
  void close();
  /// Why connections that wait cannot be taken (errno); 0: they can, or none has waited for a while.
  int error() const;

 private:
  /// What waits for its connections has a share, and sees that it was closed.
  struct Open {
    Open(asio::io_context& context, const Endpoint& at, asio::ip::tcp::acceptor listening)
        : endpoint(at), acceptor(std::move(listening)), alarm(context.get_executor()) {}

    const Endpoint endpoint;
    asio::ip::tcp::acceptor acceptor;
    run::Alarm alarm;  ///< Until it is tried again, after a failure.
  };
  /// Takes the next connection, and goes on. Nothing but closing it ends that: what fails is tried again in a moment.
  void accept_next(const std::shared_ptr<Open>& listener) noexcept;
  void accepted(const std::shared_ptr<Open>& listener, const boost::system::error_code& error,
                asio::ip::tcp::socket socket) noexcept;
  void pause(const std::shared_ptr<Open>& listener, int error) noexcept;
  std::vector<Endpoint> present() const;
  template <typename IsUnwanted>
  void close_those(IsUnwanted is_unwanted);
  /// Takes in the connections that wait, since closing would reset them, and closes it then.
  void drain_and_close(Open& listener);

  asio::io_context& context_;
  std::function<void(int, const Endpoint&)> take_;
  std::vector<std::shared_ptr<Open>> open_;
  int error_ = 0;
  std::chrono::steady_clock::time_point failed_at_{};
};

}  // namespace porter::server
