// Steering a running server by its settings file: reading it again when it is saved or when somebody asks, and changing
// it.
//
// Reading and writing files takes its time, and the thread that accepts connections has none: helpers do it. One thing
// is done after the other, so each starts from what the one before has made of the settings.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <boost/asio/steady_timer.hpp>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/settings/read_settings.hpp"
#include "machine/instance.hpp"
#include "machine/settings_edit.hpp"
#include "run/gate.hpp"
#include "server/api/file_watch.hpp"
#include "server/server.hpp"

namespace porter::server {

/// watch() is called once the control socket is open, and close() before the server ends. For the server's own thread.
class Steering {
 public:
  /// Steers `server`, which serves by the settings of `instance`, read from `text` (nullopt: there was no file). Both
  /// must outlive it. `override_by_options` puts what the options of the program say in the place of what settings say,
  /// each time before they are applied.
  Steering(Server& server, machine::Instance instance, std::optional<std::string> text,
           std::vector<SettingsProblem> standing, std::function<void(Settings&)> override_by_options);

  /// Reads the settings again and serves by them; with problems nothing changes, and they stand until the next time.
  asio::awaitable<std::vector<SettingsProblem>> reload();
  /// Changes the settings file and serves by it; with problems the file is left as it was.
  asio::awaitable<std::vector<SettingsProblem>> edit(const SettingsEdit& edit);
  /// Puts `text` in the place of the settings, of which `version` was read, and serves by it; as edit().
  asio::awaitable<std::vector<SettingsProblem>> write(std::string version, std::string text);

  /// What is wrong at the moment: with the settings as they are on disk, with watching them, and with the access log.
  asio::awaitable<std::vector<SettingsProblem>> standing_findings();

  Server& server() { return server_; }
  const machine::Instance& instance() const { return instance_; }

  /// Begins to watch the settings file; close() ends that.
  void watch();
  void close();

 private:
  /// What there is to be read at the moment.
  enum class Content { as_applied, other, nothing };

  asio::awaitable<void> note_changes();
  asio::awaitable<void> follow_changes();
  /// Compares what is on disk with what is served, and reads it if it is to be believed. When to look again.
  asio::awaitable<run::Clock::time_point> look();
  Content content_of(const SettingsRead& read) const;
  /// Waits until nobody else reads or writes the settings; nobody does for as long as the ticket is held.
  asio::awaitable<run::Gate::Ticket> take_turn();
  asio::awaitable<std::vector<SettingsProblem>> reload_in_turn();
  /// Has `change`, on a helper's thread, change the file, and serves by it.
  asio::awaitable<std::vector<SettingsProblem>> change_by(std::function<machine::SettingsEdited()> change);
  /// That nothing is read or changed any more, if the server is stopping; else nothing.
  std::vector<SettingsProblem> problems_of_stop() const;
  std::vector<SettingsProblem> apply(Settings settings);
  void tell(const std::vector<SettingsProblem>& problems);
  /// The settings may lie elsewhere by now.
  void follow_links();

  Server& server_;
  machine::Instance instance_;
  const std::function<void(Settings&)> override_by_options_;
  std::vector<machine::OtherName> other_names_;
  std::shared_ptr<run::Gate> turns_ = std::make_shared<run::Gate>(run::Gate::Bounds{1, 0, 1, 1000});
  FileWatch watch_;
  asio::steady_timer pause_;
  std::optional<run::Clock::time_point> touched_;  ///< Since when there are changes that were not looked at.
  std::optional<run::Clock::time_point> empty_since_;
  bool is_closed_ = false;
  std::vector<SettingsProblem> problems_;
  std::vector<SettingsProblem> standing_;  ///< Of the settings that are applied.
  std::optional<std::string> applied_text_;
};

}  // namespace porter::server
