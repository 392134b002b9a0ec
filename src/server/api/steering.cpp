// Reloading, editing and watching the settings. See steering.hpp.
#include "server/api/steering.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <algorithm>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <ctime>
#include <exception>
#include <sstream>

#include "core/findings/finding_json.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"

namespace porter::server {
namespace {

using run::Clock;

/// An editor may write a file in several steps; what it has when it has been quiet for this long is what is meant.
constexpr std::chrono::milliseconds kQuiet{60};
/// Whoever never is quiet is looked at all the same.
constexpr std::chrono::seconds kLongestQuiet{1};
/// Some save a file by emptying or removing it first. Taking all sites away is believed only when it has stayed so.
constexpr std::chrono::seconds kBelieveNothing{3};
constexpr std::chrono::seconds kTryAgain{1};
/// A settings file that lies on a mount that does not answer is given up then.
constexpr std::chrono::seconds kPatienceWithSettings{20};
/// And a folder that is looked at for the sake of a finding.
constexpr std::chrono::seconds kPatienceWithFolder{1};

bool is_blank(const std::optional<std::string>& text) {
  return !text || text->find_first_not_of(" \t\r\n") == std::string::npos;
}

/// That the settings `file` did not answer.
SettingsProblem no_response(const std::string& file) {
  const std::string seconds = std::to_string(kPatienceWithSettings.count());
  return {Finding{Code::no_response_in_time, {{"what", "The settings " + file}, {"seconds", seconds}}}, file, 0, 0, {}};
}

/// Reads the settings `file` for a server that runs by `before`.
SettingsRead read_beside(const std::string& file, const Settings& before) {
  SettingsRead read = machine::read_settings_file(file);
  if (read.problems.empty()) keep_roots(read.settings, read.standing, before);
  return read;
}

}  // namespace

Steering::Steering(Server& server, machine::Instance instance, std::optional<std::string> text,
                   std::vector<SettingsProblem> standing, std::function<void(Settings&)> override_by_options)
    : server_(server),
      instance_(std::move(instance)),
      override_by_options_(std::move(override_by_options)),
      watch_(server.context(), instance_.named),
      pause_(server.context()),
      standing_(std::move(standing)),
      applied_text_(std::move(text)) {
  follow_links();
}

void Steering::follow_links() {
  instance_.settings = machine::without_links(instance_.named);
  for (const std::string& path : {instance_.named, instance_.settings}) {
    const bool is_known =
        path == instance_.known_by || std::any_of(other_names_.begin(), other_names_.end(),
                                                  [&](const machine::OtherName& name) { return name.path() == path; });
    if (is_known) continue;
    if (auto name = machine::OtherName::take(instance_, path)) other_names_.push_back(std::move(*name));
  }
}

std::vector<SettingsProblem> Steering::problems_of_stop() const {
  if (!server_.is_stopping()) return {};
  return {{Finding{Code::stopping, {}}, instance_.settings, 0, 0, {}}};
}

std::vector<SettingsProblem> Steering::apply(Settings settings) {
  std::vector<SettingsProblem> problems;
  override_by_options_(settings);
  for (Finding& finding : server_.apply(std::move(settings)))
    problems.push_back({std::move(finding), instance_.settings, 0, 0, {}});
  return problems;
}

asio::awaitable<run::Gate::Ticket> Steering::take_turn() {
  const auto place = turns_->line_up(server_.context().get_executor(), run::Gate::Run());
  run::Gate::Ticket turn;
  if (place) turn = co_await place->slot_by(run::Clock::time_point::max());
  co_return turn;
}

asio::awaitable<std::vector<SettingsProblem>> Steering::reload() {
  const run::Gate::Ticket turn = co_await take_turn();
  auto problems = co_await reload_in_turn();
  server_.forget_compiled();
  co_return problems;
}

asio::awaitable<std::vector<SettingsProblem>> Steering::reload_in_turn() {
  if (auto stopping = problems_of_stop(); !stopping.empty()) co_return stopping;
  follow_links();
  auto reading = server_.shared().helpers.settings.run_within(
      kPatienceWithSettings,
      [file = instance_.settings, before = server_.shared_snapshot()] { return read_beside(file, before->settings); });
  auto came = co_await std::move(reading);
  if (!came) {
    problems_ = {no_response(instance_.settings)};
    tell(problems_);
    co_return problems_;
  }
  SettingsRead read = std::move(*came);
  applied_text_ = std::move(read.text);
  problems_ = std::move(read.problems);
  if (problems_.empty()) problems_ = apply(std::move(read.settings));
  if (problems_.empty()) standing_ = std::move(read.standing);
  tell(problems_);
  co_return problems_;
}

asio::awaitable<std::vector<SettingsProblem>> Steering::edit(const SettingsEdit& edit) {
  const run::Gate::Ticket turn = co_await take_turn();
  follow_links();
  auto changing = change_by([edit, file = instance_.settings] { return machine::edit_settings(file, edit); });
  auto problems = co_await std::move(changing);
  co_return problems;
}

asio::awaitable<std::vector<SettingsProblem>> Steering::write(std::string version, std::string text) {
  const run::Gate::Ticket turn = co_await take_turn();
  follow_links();
  auto changing =
      change_by([version, text, file = instance_.settings] { return machine::write_settings(file, version, text); });
  auto problems = co_await std::move(changing);
  co_return problems;
}

asio::awaitable<std::vector<SettingsProblem>> Steering::change_by(std::function<machine::SettingsEdited()> change) {
  if (auto stopping = problems_of_stop(); !stopping.empty()) co_return stopping;
  auto editing = server_.shared().helpers.settings.run_within(
      kPatienceWithSettings, [change = std::move(change), before = server_.shared_snapshot()] {
        machine::SettingsEdited edited = change();
        if (edited.problems.empty()) keep_roots(edited.settings, edited.standing, before->settings);
        return edited;
      });
  auto came = co_await std::move(editing);
  std::vector<SettingsProblem> unanswered;
  if (!came) unanswered.push_back(no_response(instance_.settings));
  if (!came) co_return unanswered;
  const auto edited = std::make_shared<machine::SettingsEdited>(std::move(*came));
  if (!edited->problems.empty()) co_return std::move(edited->problems);
  auto problems = apply(std::move(edited->settings));
  if (problems.empty()) {
    problems_.clear();
    standing_ = std::move(edited->standing);
    applied_text_ = edited->after;
  } else {
    auto undoing =
        server_.shared().helpers.settings.run_within(kPatienceWithSettings, [edited, file = instance_.settings] {
          machine::undo_edit(file, *edited);
          return true;
        });
    co_await std::move(undoing);
  }
  tell(problems);
  co_return problems;
}

asio::awaitable<std::vector<SettingsProblem>> Steering::standing_findings() {
  auto out = problems_;
  // A folder may be there again by now. Where it does not answer, what was found last still stands.
  if (!standing_.empty()) {
    auto looking = server_.shared().helpers.folders.run_within(kPatienceWithFolder, [all = standing_] {
      auto still = all;
      std::erase_if(still, [](const SettingsProblem& problem) {
        const std::string folder(problem.finding.fact("folder").value_or(""));
        // A site that keeps its root from before goes on to do so until the settings are read again.
        return problem.finding.code != Code::settings_root_kept && ::access(folder.c_str(), R_OK | X_OK) == 0;
      });
      return still;
    });
    auto still = co_await std::move(looking);
    const auto& standing = still ? *still : standing_;
    out.insert(out.end(), standing.begin(), standing.end());
  }
  if (auto finding = watch_.problem()) out.push_back({std::move(*finding), instance_.settings, 0, 0, {}});
  if (const auto& log = server_.snapshot().access_log)
    if (auto finding = log->problem()) out.push_back({std::move(*finding), log->log().file, 0, 0, {}});
  co_return out;
}

void Steering::tell(const std::vector<SettingsProblem>& problems) {
  server_.shared().metrics.count_reload(problems.empty());
  std::string refused;
  if (!problems.empty())
    refused = "The settings were saved with a mistake, and the server goes by those from before: " +
              sentence_of(problems.front().finding);
  server_.shared().refused_settings.set(std::move(refused));
  server_.shared().events.publish("settings",
                                  json_text({{"applied", problems.empty()}, {"findings", json_of(problems)}}));
  Journal& journal = *server_.shared().journal;
  const std::string now = fmt::format("{:%H:%M:%S}", fmt::localtime(std::time(nullptr)));
  if (problems.empty()) {
    const Settings& settings = server_.snapshot().settings;
    journal.write_note(fmt::format("{}      Settings applied: {} ({} {})\n", now, text::escape_line(instance_.settings),
                                   settings.sites.size(), settings.sites.size() == 1 ? "site" : "sites"));
    for (const SettingsProblem& problem : standing_)
      journal.write_note("          " + sentence_of(problem.finding) + " " + remedy_of(problem.finding) + "\n");
    return;
  }
  journal.write_note(fmt::format("{}      Settings not applied; serving goes on as before\n", now));
  for (const SettingsProblem& problem : problems) {
    std::istringstream lines(text_of(problem));
    for (std::string line; std::getline(lines, line);) journal.write_note(line + "\n");
  }
}

void Steering::watch() {
  // What was saved between the first reading and the watch is not told of by any event.
  touched_ = Clock::now();
  asio::co_spawn(server_.context(), note_changes(), asio::detached);
  asio::co_spawn(server_.context(), follow_changes(), asio::detached);
}

void Steering::close() {
  is_closed_ = true;
  watch_.close();
  pause_.cancel();
  other_names_.clear();
}

asio::awaitable<void> Steering::note_changes() {
  for (;;) {
    const bool has_changed = co_await watch_.changed();
    if (!has_changed || is_closed_) co_return;
    if (!touched_) touched_ = Clock::now();
    pause_.cancel();
  }
}

asio::awaitable<void> Steering::follow_changes() {
  auto look_again = Clock::time_point::max();
  while (!is_closed_) {
    auto next = look_again;
    if (touched_) next = std::min(Clock::now() + kQuiet, *touched_ + kLongestQuiet);
    pause_.expires_at(next);
    const auto [error] = co_await pause_.async_wait(run::kAwait);
    if (is_closed_) co_return;
    if (error) continue;  // There are more changes.
    touched_.reset();
    look_again = Clock::now() + kTryAgain;
    try {
      look_again = co_await look();
    } catch (const std::exception&) {
      // Memory is lacking; it is tried again.
    }
  }
}

asio::awaitable<Clock::time_point> Steering::look() {
  const run::Gate::Ticket turn = co_await take_turn();
  if (server_.is_stopping()) co_return Clock::time_point::max();
  follow_links();
  auto reading = server_.shared().helpers.settings.run_within(
      kPatienceWithSettings, [file = instance_.settings] { return machine::read_settings_file(file); });
  const auto read = co_await std::move(reading);
  const auto now = Clock::now();
  if (!read) co_return now + kTryAgain;
  const Content content = content_of(*read);
  if (content == Content::as_applied) empty_since_.reset();
  if (content == Content::as_applied) co_return Clock::time_point::max();
  if (content == Content::nothing && !is_blank(applied_text_)) {
    if (!empty_since_) empty_since_ = now;
    if (now < *empty_since_ + kBelieveNothing) co_return *empty_since_ + kBelieveNothing;
  }
  empty_since_.reset();
  const auto problems = co_await reload_in_turn();
  const bool has_failed = std::any_of(problems.begin(), problems.end(), [](const SettingsProblem& problem) {
    return problem.finding.code == Code::server_resources;
  });
  co_return has_failed ? now + kTryAgain : Clock::time_point::max();
}

Steering::Content Steering::content_of(const SettingsRead& read) const {
  const bool is_missing = !read.text && read.problems.empty();
  if (read.text == applied_text_ && (read.text || is_missing)) return Content::as_applied;
  return is_missing || (read.text && is_blank(read.text)) ? Content::nothing : Content::other;
}

}  // namespace porter::server
