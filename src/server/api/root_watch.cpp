// See root_watch.hpp.
#include "server/api/root_watch.hpp"

#include <boost/asio/awaitable.hpp>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <filesystem>
#include <system_error>
#include <utility>

#include "machine/instance.hpp"

namespace porter::server {
namespace {

/// Where `written` leads; empty while it leads to no folder, as between two links of one name.
std::string folder_at(const std::string& written) {
  std::error_code error;
  return std::filesystem::is_directory(written, error) ? machine::without_links(written) : std::string();
}

asio::awaitable<void> tell_when_moved(std::shared_ptr<FileWatch> watch, std::string written, std::string real,
                                      std::function<void()> moved) {
  for (;;) {
    const std::string now = folder_at(written);
    if (!now.empty() && now != real) co_return moved();
    const bool has_changed = co_await watch->changed();
    if (!has_changed) co_return;
  }
}

}  // namespace

void RootWatch::follow(const Settings& settings) {
  std::vector<Root> roots;
  for (const Site& site : settings.sites)
    if (!site.written_root.empty() && site.written_root != site.document_root && !site.is_root_missing &&
        site.missing_root.empty())
      roots.push_back({site.written_root, site.document_root});
  if (roots == roots_) return;
  close();
  roots_ = std::move(roots);
  for (const Root& root : roots_) {
    const auto& watch = watches_.emplace_back(std::make_shared<FileWatch>(context_, root.written));
    asio::co_spawn(context_, tell_when_moved(watch, root.written, root.real, moved_), asio::detached);
  }
}

void RootWatch::close() {
  for (const auto& watch : std::exchange(watches_, {})) watch->close();
  roots_.clear();
}

Settings with_roots_as_they_are(Settings settings) {
  for (Site& site : settings.sites) {
    const std::string now = folder_at(site.written_root);
    if (now.empty()) continue;
    for (auto& fallback : site.fallbacks)
      if (fallback.root == site.document_root) fallback.root = now;
    site.document_root = now;
  }
  return settings;
}

}  // namespace porter::server
