// Looking for what a run has left. See traces.hpp.
#include "run/pool/traces.hpp"

#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <csignal>
#include <ctime>

namespace porter::run {
namespace {

bool contains(const std::vector<pid_t>& all, pid_t id) { return std::find(all.begin(), all.end(), id) != all.end(); }

int priority_of(pid_t id) { return ::getpriority(PRIO_PROCESS, static_cast<id_t>(id)); }

/// The file that the process `id` executes.
std::string program_of(pid_t id) {
  std::array<char, 4096> path;
  const ssize_t length = ::readlink(("/proc/" + std::to_string(id) + "/exe").c_str(), path.data(), path.size());
  return {path.data(), static_cast<std::size_t>(std::max<ssize_t>(length, 0))};
}

/// Clock ticks since the machine started, `age` ago.
std::uint64_t ticks_ago(std::chrono::steady_clock::duration age) {
  timespec now{};
  ::clock_gettime(CLOCK_BOOTTIME, &now);
  const auto then = std::chrono::seconds(now.tv_sec) + std::chrono::nanoseconds(now.tv_nsec) - age;
  return static_cast<std::uint64_t>(std::chrono::duration<double>(then).count() *
                                    static_cast<double>(::sysconf(_SC_CLK_TCK)));
}

}  // namespace

Traces::Traces(const Process& process, bool is_php)
    : process_(process),
      is_php_(is_php),
      children_(process.id()),
      priority_(priority_of(process.id())),
      limits_(limits()) {}

std::vector<pid_t> Traces::left(bool live_on) {
  const bool is_first = !std::exchange(has_answered_, true);
  const bool may_be_own = live_on || (is_first && !is_php_);
  std::vector<pid_t> out;
  auto found = children_.read();
  for (const pid_t orphan : process_.orphans()) found.push_back(orphan);
  for (const pid_t id : found) {
    if (contains(own_, id)) continue;
    const auto state = state_of(id);
    if (!state || state->state == 'Z') continue;
    (may_be_own ? own_ : out).push_back(id);
  }
  return out;
}

bool Traces::has_altered_priority() const { return priority_of(process_.id()) != priority_; }

std::string Traces::limits() const {
  // PHP itself has no use for that signal: only a script has had it caught.
  constexpr std::uint64_t kAlarm = std::uint64_t{1} << (SIGALRM - 1);
  const auto state = state_of(process_.id());
  if (!state) return {};
  return proc_content(process_.id(), "limits") + std::to_string(state->blocked) + " " +
         std::to_string(state->caught & kAlarm);
}

bool Traces::has_altered_limits(std::uint64_t runs) {
  constexpr std::chrono::milliseconds kBetweenLooks{10};
  if (!is_php_ || runs == runs_looked_at_) return false;
  const auto now = std::chrono::steady_clock::now();
  if (now - looked_at_ < kBetweenLooks) return false;
  looked_at_ = now;
  runs_looked_at_ = runs;
  return limits() != limits_;
}

bool Traces::is_own_word(pid_t sender, std::chrono::steady_clock::duration age, bool is_first) {
  if (sender <= 0 || sender == process_.id() || contains(own_senders_, sender)) return true;
  const auto state = state_of(sender);
  if (!state) return false;
  // A program may itself be started by another, or have others answer for it.
  const bool is_own =
      is_first ? !is_php_ || program_of(sender) != program_of(process_.id()) : state->begun < ticks_ago(age);
  if (is_own) own_senders_.push_back(sender);
  return is_own;
}

}  // namespace porter::run
