// Noticing that a document root that is reached through a link leads elsewhere by now: a release that is put in place
// by turning a link is shown from then on.
#pragma once

#include <boost/asio/io_context.hpp>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "core/settings/settings.hpp"
#include "server/api/file_watch.hpp"

namespace porter::server {

/// For the thread of `context`.
class RootWatch {
 public:
  /// Calls `moved` when the document root of a site that is followed has become another folder.
  RootWatch(asio::io_context& context, std::function<void()> moved) : context_(context), moved_(std::move(moved)) {}
  ~RootWatch() { close(); }
  RootWatch(const RootWatch&) = delete;
  RootWatch& operator=(const RootWatch&) = delete;

  /// Follows the sites of `settings` that are reached through links, in place of those before.
  void follow(const Settings& settings);
  void close();

 private:
  struct Root {
    std::string written;
    std::string real;

    bool operator==(const Root&) const = default;
  };

  asio::io_context& context_;
  const std::function<void()> moved_;
  std::vector<Root> roots_;
  std::vector<std::shared_ptr<FileWatch>> watches_;
};

/// `settings` with the document roots that their links lead to now.
Settings with_roots_as_they_are(Settings settings);

}  // namespace porter::server
