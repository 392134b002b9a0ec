// Marks, orphans, and walks down the tree of processes. See kin.hpp.
#include "run/fresh/kin.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <sys/prctl.h>
#include <sys/random.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <charconv>
#include <chrono>
#include <csignal>
#include <cstdlib>
#include <memory>
#include <mutex>
#include <new>
#include <optional>
#include <string>
#include <string_view>
#include <thread>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "core/files/descriptor.hpp"
#include "run/mark.hpp"
#include "run/proc.hpp"

namespace porter::run {
namespace {

constexpr std::uint64_t kNumberMask = (std::uint64_t{1} << kNumberBits) - 1;
constexpr std::chrono::milliseconds kPause{10};
constexpr int kMostPauses = 100;

std::uint64_t base = 0;  // Set once, before there are threads.

/// The runs that are not over, by their numbers, each with its first process (0 until that is known). An orphan whose
/// number is not among them is left over.
struct Living {
  std::mutex mutex;
  std::unordered_map<std::uint64_t, pid_t> leaders;  // Guarded by mutex, as are the next three.
  std::unordered_set<pid_t> ids;                     ///< Of those first processes.
  std::unordered_set<std::uint64_t> spared;          ///< Runs that are over, and what they have left lives on.
  std::uint64_t next = 1;
};
Living& living() {
  static Living all;
  return all;
}

std::vector<std::string> entries_of(const std::string& folder) {
  std::vector<std::string> out;
  const std::unique_ptr<DIR, int (*)(DIR*)> open(::opendir(folder.c_str()), ::closedir);
  while (const dirent* const entry = open ? ::readdir(open.get()) : nullptr)
    if (entry->d_name[0] >= '0' && entry->d_name[0] <= '9') out.emplace_back(entry->d_name);
  return out;
}

/// Adds the children of the process `id` to `out`; zombies included.
void add_children(pid_t id, std::vector<pid_t>& out) {
  static const bool has_lists =
      ::access(("/proc/self/task/" + std::to_string(::getpid()) + "/children").c_str(), F_OK) == 0;
  if (!has_lists) {
    // Not every kernel keeps lists of children; asking each process for its parent takes longer.
    for (const std::string& entry : entries_of("/proc")) {
      const auto other = static_cast<pid_t>(std::atol(entry.c_str()));
      if (const auto state = state_of(other); state && state->parent == id) out.push_back(other);
    }
    return;
  }
  for (const std::string& task : entries_of("/proc/" + std::to_string(id) + "/task"))
    read_children(proc_content(id, "task/" + task + "/children"), out);
}

/// The number of the run that the process `id` belongs to; nullopt: to none of this process.
std::optional<std::uint64_t> number_of(pid_t id) {
  const std::string limits = proc_content(id, "limits");
  const std::uint64_t value = mark_in(limits);
  if (value == 0 || (value & ~kNumberMask) != base) return std::nullopt;
  return value & kNumberMask;
}

std::vector<pid_t> own_children() {
  std::vector<pid_t> out;
  add_children(::getpid(), out);
  return out;
}

bool is_leader(pid_t id) {
  Living& all = living();
  const std::lock_guard lock(all.mutex);
  return all.ids.contains(id);
}

/// True while the process `id` is a child of this one that has not been reaped.
bool is_own_child(pid_t id) {
  siginfo_t info{};
  return ::waitid(P_PID, static_cast<id_t>(id), &info, WEXITED | WNOHANG | WNOWAIT) == 0;
}

}  // namespace

void hold_kin() {
  rlimit now{};
  ::getrlimit(RLIMIT_RTTIME, &now);
  std::uint64_t random = 0;
  if (::getrandom(&random, sizeof random, 0) != static_cast<ssize_t>(sizeof random))
    random = static_cast<std::uint64_t>(::getpid());
  // A limit can only be lowered, and a server may itself be the script of another one.
  const std::uint64_t most = std::min<std::uint64_t>(now.rlim_max, std::uint64_t{1} << 62);
  base = (most - (random % (std::uint64_t{1} << 20) + 1) * (kNumberMask + 1)) & ~kNumberMask;
  ::prctl(PR_SET_CHILD_SUBREAPER, 1);
}

std::uint64_t kin_mark() { return base; }

Kin::Kin() {
  Living& all = living();
  const std::lock_guard lock(all.mutex);
  number_ = all.next++ & kNumberMask;
  all.leaders[number_] = 0;
}

Kin::~Kin() {
  Living& all = living();
  const std::lock_guard lock(all.mutex);
  if (!is_spared_) all.leaders.erase(number_);
  all.ids.erase(leader_);
}

rlimit Kin::mark() const {
  if (base == 0) return {RLIM_INFINITY, RLIM_INFINITY};
  return {base | number_, base | number_};
}

void Kin::set_leader(pid_t id) {
  leader_ = id;
  Living& all = living();
  const std::lock_guard lock(all.mutex);
  all.leaders[number_] = id;
  all.ids.insert(id);
}

std::vector<pid_t> Kin::descendants() const {
  constexpr std::size_t kMost = 10000;
  std::vector<pid_t> found;
  add_children(leader_, found);
  for (const pid_t child : own_children())
    if (child != leader_ && number_of(child) == number_) found.push_back(child);
  for (std::size_t i = 0; i < found.size() && found.size() < kMost; ++i) add_children(found[i], found);
  return found;
}

std::vector<pid_t> Kin::orphans() const {
  // They come to the first thread.
  static const ChildList all_orphans(::getpid());
  std::vector<pid_t> out;
  if (base == 0) return out;
  for (const pid_t child : all_orphans.read())
    if (!is_leader(child) && number_of(child) == number_) out.push_back(child);
  return out;
}

void Kin::signal(int signal) const {
  if (leader_ <= 1) return;
  // Those that have left are looked for first: once their parents have ended, only the mark tells whose they are.
  std::vector<pid_t> found;
  try {
    if (base != 0) found = descendants();
  } catch (const std::bad_alloc&) {
    // Then those that can be reached without looking for them.
  }
  ::kill(-leader_, signal);
  ::kill(leader_, signal);
  try {
    for (const pid_t id : found)
      // The number may have passed to another process since it was read; the mark has not.
      if (::getpgid(id) != leader_ && number_of(id) == number_) ::kill(id, signal);
  } catch (const std::bad_alloc&) {
    // end_orphans() finds them once the run is over.
  }
}

void Kin::spare() {
  Living& all = living();
  const std::lock_guard lock(all.mutex);
  // Before it is reaped, since nothing may fail from there on.
  all.spared.insert(number_);
  is_spared_ = true;
}

bool Kin::reap(int& status, rusage& usage) {
  if (leader_ <= 1) return false;
  Living& all = living();
  const std::lock_guard lock(all.mutex);
  pid_t reaped = 0;
  do reaped = ::wait4(leader_, &status, WNOHANG, &usage);
  while (reaped < 0 && errno == EINTR);
  // ECHILD: somebody else has, and nothing is known of its end.
  if (reaped != leader_ && !(reaped < 0 && errno == ECHILD)) return false;
  if (is_spared_) {
    if (const auto run = all.leaders.find(number_); run != all.leaders.end()) run->second = 0;
  } else {
    all.leaders.erase(number_);
  }
  all.ids.erase(leader_);
  leader_ = 0;
  return true;
}

bool end_orphans() {
  if (base == 0) return false;
  siginfo_t info{};
  // Mostly there is no child at all, and this is all it takes.
  if (::waitid(P_ALL, 0, &info, WEXITED | WNOHANG | WNOWAIT) != 0 && errno == ECHILD) return false;
  bool is_any_left = false;
  for (const pid_t child : own_children()) {
    Living& all = living();
    const std::lock_guard lock(all.mutex);
    // Runs reap their first processes under the same lock, so from here on the number belongs to a child or to none.
    const auto number = is_own_child(child) ? number_of(child) : std::nullopt;
    if (!number) continue;
    const auto run = all.leaders.find(*number);
    if (run == all.leaders.end()) {
      ::kill(child, SIGKILL);
      is_any_left = true;  // Whoever is ended leaves its own children behind.
    } else if ((run->second == 0 && !all.spared.contains(*number)) || run->second == child) {
      continue;  // The first process is the run's own to reap, and until it is known any of its number may be it.
    }
    ::waitpid(child, nullptr, WNOHANG);
  }
  return is_any_left;
}

void end_all_kin() {
  {
    Living& all = living();
    const std::lock_guard lock(all.mutex);
    for (const std::uint64_t number : all.spared) all.leaders.erase(number);
    all.spared.clear();
  }
  for (int i = 0; i < kMostPauses && end_orphans(); ++i) std::this_thread::sleep_for(kPause);
}

}  // namespace porter::run
