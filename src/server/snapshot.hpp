// What is served at the moment: one state of the settings with what the server has made of it.
//
// A snapshot never changes. A reload makes another and gives it to the workers, each of which takes it up between two
// requests; a request keeps the one it began with.
#pragma once

#include <memory>
#include <string>
#include <unordered_map>
#include <vector>

#include "core/settings/settings.hpp"
#include "run/gate.hpp"
#include "run/pool/pool.hpp"
#include "run/script_order.hpp"
#include "server/record/access_log.hpp"
#include "server/response/file_cache.hpp"

namespace porter::server {

struct Snapshot {
  Settings settings;
  std::vector<Listener> listeners;
  std::vector<std::shared_ptr<const std::string>> site_names;  ///< For exchanges, which outlive it.
  std::shared_ptr<run::Gate> gate;
  std::shared_ptr<AccessLogFile> access_log;  ///< Null: none is kept.

  /// The listener that has `endpoint` among its sockets; null: none has it any more.
  const Listener* find(const Endpoint& endpoint) const {
    for (const Listener& listener : listeners)
      for (const Endpoint& own : listener.address.endpoints())
        if (own == endpoint) return &listener;
    return nullptr;
  }
};

/// A worker's share of a snapshot. It belongs to the worker's thread.
struct Served {
  explicit Served(std::shared_ptr<const Snapshot> all)
      : snapshot(std::move(all)), files(snapshot->settings.sites.size()) {}

  std::shared_ptr<const Snapshot> snapshot;
  FileCache files;
  run::Runners runners;
  files::ProgramsFound programs;
  struct PoolOf {
    const script::Interpreter* rule;
    std::string program;
    std::shared_ptr<run::PoolAccess> share;
  };
  std::unordered_map<const Site*, std::vector<PoolOf>> pools;  ///< By site, as far as they were asked for.
};

}  // namespace porter::server
