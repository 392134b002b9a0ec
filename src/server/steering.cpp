// Reloading, editing and watching the settings. See steering.hpp.
#include "server/steering.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>
#include <sys/inotify.h>
#include <unistd.h>

#include <array>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <cstring>
#include <ctime>
#include <span>
#include <sstream>

#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/text/text.hpp"

namespace porter::server {
namespace {

/// An editor may write a file in several steps; what it has when it has been quiet for this long is what is meant.
constexpr std::chrono::milliseconds kQuiet{60};

/// True if one of the events in `events`, as inotify(7) has them, is about the file called `name`.
bool tell_of(std::span<const char> events, const std::string& name) {
  bool found = false;
  while (events.size() >= sizeof(inotify_event)) {
    inotify_event event{};
    std::memcpy(&event, events.data(), sizeof event);
    events = events.subspan(sizeof event);
    found = found || (event.len > 0 && name == events.data());
    events = events.subspan(std::min<std::size_t>(event.len, events.size()));
  }
  return found;
}

}  // namespace

Steering::Steering(Server& server, run::Instance instance)
    : server_(server),
      instance_(std::move(instance)),
      changes_(server.context()),
      pause_(server.context()),
      applied_text_(files::content_of(instance_.settings)) {}

std::vector<SettingsProblem> Steering::apply(Settings settings) {
  std::vector<SettingsProblem> problems;
  for (Finding& finding : server_.apply(std::move(settings)))
    problems.push_back({std::move(finding), instance_.settings, 0, 0, {}});
  return problems;
}

std::vector<SettingsProblem> Steering::reload() {
  applied_text_ = files::content_of(instance_.settings);
  SettingsRead read = run::read_settings_file(instance_.settings);
  problems_ = std::move(read.problems);
  if (problems_.empty()) problems_ = apply(std::move(read.settings));
  tell(problems_);
  return problems_;
}

std::vector<SettingsProblem> Steering::edit(const SettingsEdit& edit) {
  run::SettingsEdited edited = run::edit_settings(instance_.settings, edit);
  if (!edited.problems.empty()) return std::move(edited.problems);
  auto problems = apply(std::move(edited.settings));
  if (!problems.empty()) run::undo_edit(instance_.settings, edited);
  if (problems.empty()) problems_.clear();
  applied_text_ = files::content_of(instance_.settings);
  tell(problems);
  return problems;
}

std::vector<SettingsProblem> Steering::standing_problems() const {
  auto out = problems_;
  if (const auto& log = server_.snapshot().access_log)
    if (auto finding = log->problem()) out.push_back({std::move(*finding), log->log().file, 0, 0, {}});
  return out;
}

void Steering::tell(const std::vector<SettingsProblem>& problems) {
  Journal& journal = *server_.shared().journal;
  const std::string now = fmt::format("{:%H:%M:%S}", fmt::localtime(std::time(nullptr)));
  if (problems.empty()) {
    const Settings& settings = server_.snapshot().settings;
    journal.write_note(fmt::format("{}      Settings applied: {} ({} {})\n", now, text::escape_line(instance_.settings),
                                   settings.sites.size(), settings.sites.size() == 1 ? "site" : "sites"));
    return;
  }
  journal.write_note(fmt::format("{}      Settings not applied; serving goes on as before\n", now));
  for (const SettingsProblem& problem : problems) {
    std::istringstream lines(text_of(problem));
    for (std::string line; std::getline(lines, line);) journal.write_note(line + "\n");
  }
}

void Steering::watch() {
  const int watcher = ::inotify_init1(IN_CLOEXEC | IN_NONBLOCK);
  if (watcher < 0) return;
  changes_.assign(watcher);
  // The folder, not the file: editors put another file in its place. A link is followed to where the file really is.
  const std::string folder(files::folder_of(instance_.settings));
  ::inotify_add_watch(watcher, folder.c_str(), IN_CLOSE_WRITE | IN_MOVED_TO | IN_DELETE | IN_MOVED_FROM);
  asio::co_spawn(server_.context(), follow_changes(), asio::detached);
}

void Steering::close() {
  boost::system::error_code ignored;
  changes_.close(ignored);
  pause_.cancel();
}

asio::awaitable<void> Steering::follow_changes() {
  const std::string name(files::base_name(instance_.settings));
  std::array<char, 8192> buffer{};
  bool is_changed = false;
  while (changes_.is_open()) {
    const ssize_t got = ::read(changes_.native_handle(), buffer.data(), buffer.size());
    if (got > 0) {
      is_changed = tell_of(std::span<const char>(buffer).first(static_cast<std::size_t>(got)), name) || is_changed;
      continue;
    }
    if (is_changed) {
      is_changed = false;
      pause_.expires_after(kQuiet);
      co_await pause_.async_wait(run::kAwait);
      if (!changes_.is_open()) co_return;
      // A file that is just being replaced is missing for a moment; once it is back, that shows here again.
      const bool is_there = ::access(instance_.settings.c_str(), F_OK) == 0;
      if (is_there && files::content_of(instance_.settings) != applied_text_) reload();
      continue;
    }
    co_await changes_.async_wait(asio::posix::stream_descriptor::wait_read, run::kAwait);
  }
}

}  // namespace porter::server
