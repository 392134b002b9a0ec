// Steering a running server by its settings file: reading it anew when it is saved or when somebody asks, and changing
// it.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <boost/asio/posix/stream_descriptor.hpp>
#include <boost/asio/steady_timer.hpp>
#include <memory>
#include <string>
#include <vector>

#include "core/settings/read_settings.hpp"
#include "run/instance.hpp"
#include "run/settings_edit.hpp"
#include "server/server.hpp"

namespace porter::server {

class Steering {
 public:
  /// Steers `server`, which serves by the settings of `instance`. Both must outlive it.
  Steering(Server& server, run::Instance instance);

  /// Reads the settings anew and serves by them; with problems nothing changes, and they stand until the next time.
  std::vector<SettingsProblem> reload();
  /// Changes the settings file and serves by it; with problems the file is left as it was.
  std::vector<SettingsProblem> edit(const SettingsEdit& edit);

  /// What is wrong at the moment: with the settings as they are on disk, and with the access log.
  std::vector<SettingsProblem> standing_problems() const;

  Server& server() { return server_; }
  const run::Instance& instance() const { return instance_; }

  /// Begins to watch the settings file; close() ends that.
  void watch();
  void close();

 private:
  asio::awaitable<void> follow_changes();
  std::vector<SettingsProblem> apply(Settings settings);
  void tell(const std::vector<SettingsProblem>& problems);

  Server& server_;
  const run::Instance instance_;
  asio::posix::stream_descriptor changes_;
  asio::steady_timer pause_;
  std::vector<SettingsProblem> problems_;
  std::optional<std::string> applied_text_;
};

}  // namespace porter::server
