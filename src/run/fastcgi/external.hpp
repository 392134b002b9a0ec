// Workers: programs that speak FastCGI and that others have started, on this machine or on another.
//
// Each request has a connection of its own: whoever else shares a worker wants a turn there, and many take as many
// connections as they have processes. The addresses share the work; one that is down is left out for a while.
#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <memory>
#include <string>
#include <variant>
#include <vector>

#include "core/findings/finding.hpp"
#include "core/script/interpreters.hpp"
#include "run/fastcgi/run.hpp"

namespace porter::run {

/// For the thread that it is made on.
class ExternalServers {
 public:
  /// `addresses` as the settings write them.
  explicit ExternalServers(const std::vector<std::string>& addresses);

  /// A connection to the one that has least to do of those that can be reached; a finding if none can. Takes a few
  /// seconds at most for each.
  asio::awaitable<std::variant<std::shared_ptr<FastCgiPeer>, Finding>> reach();

 private:
  friend class ExternalPeer;

  struct One {
    std::string written;
    script::ExternalAddress address;
    std::size_t at_work = 0;
    Clock::time_point down_until{};
  };

  /// Those to be tried, in that order.
  std::vector<std::shared_ptr<One>> in_order();

  std::vector<std::shared_ptr<One>> all_;
  std::size_t next_ = 0;  ///< Of those that have equally much to do.
};

}  // namespace porter::run
