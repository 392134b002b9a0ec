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
#include <vector>

#include "core/files/descriptor.hpp"
#include "run/mark.hpp"

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
  std::unordered_map<std::uint64_t, pid_t> leaders;  // Guarded by mutex, as is the next.
  std::uint64_t next = 1;
};
Living& living() {
  static Living all;
  return all;
}

std::string content_of(const std::string& path) {
  const files::Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
  std::string out;
  std::array<char, 4096> buffer;
  while (file.is_open()) {
    const ssize_t got = ::read(file.get(), buffer.data(), buffer.size());
    if (got <= 0) break;
    out.append(buffer.data(), static_cast<std::size_t>(got));
  }
  return out;
}

std::vector<std::string> entries_of(const std::string& folder) {
  std::vector<std::string> out;
  const std::unique_ptr<DIR, int (*)(DIR*)> open(::opendir(folder.c_str()), ::closedir);
  while (const dirent* const entry = open ? ::readdir(open.get()) : nullptr)
    if (entry->d_name[0] >= '0' && entry->d_name[0] <= '9') out.emplace_back(entry->d_name);
  return out;
}

/// The parent of the process `id`, a number; 0 if there is none.
pid_t parent_of(const std::string& id) {
  const std::string stat = content_of("/proc/" + id + "/stat");
  // "12 (name) S 1 …", and a name may hold anything.
  const std::size_t end = stat.rfind(") ");
  pid_t parent = 0;
  if (end != stat.npos && end + 4 < stat.size())
    std::from_chars(stat.data() + end + 4, stat.data() + stat.size(), parent);
  return parent;
}

/// Adds the children of the process `id` to `out`; zombies included.
void add_children(pid_t id, std::vector<pid_t>& out) {
  static const bool has_lists =
      ::access(("/proc/self/task/" + std::to_string(::getpid()) + "/children").c_str(), F_OK) == 0;
  if (!has_lists) {
    // Not every kernel keeps lists of children; asking each process for its parent takes longer.
    for (const std::string& other : entries_of("/proc"))
      if (parent_of(other) == id) out.push_back(static_cast<pid_t>(std::atol(other.c_str())));
    return;
  }
  const std::string tasks = "/proc/" + std::to_string(id) + "/task/";
  for (const std::string& task : entries_of(tasks)) {
    const std::string list = content_of(tasks + task + "/children");
    for (std::string_view rest = list; !rest.empty();) {
      pid_t child = 0;
      const auto [end, error] = std::from_chars(rest.data(), rest.data() + rest.size(), child);
      if (error == std::errc{} && child > 1) out.push_back(child);
      rest.remove_prefix(std::min(static_cast<std::size_t>(end - rest.data()) + 1, rest.size()));
    }
  }
}

/// The number of the run that the process `id` belongs to; nullopt: to none of this process.
std::optional<std::uint64_t> number_of(pid_t id) {
  const std::string limits = content_of("/proc/" + std::to_string(id) + "/limits");
  const std::uint64_t value = mark_in(limits);
  if (value == 0 || (value & ~kNumberMask) != base) return std::nullopt;
  return value & kNumberMask;
}

std::vector<pid_t> own_children() {
  std::vector<pid_t> out;
  add_children(::getpid(), out);
  return out;
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
  all.leaders.erase(number_);
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
  for (const pid_t id : found)
    // The number may have passed to another process since it was read; the mark has not.
    if (::getpgid(id) != leader_ && number_of(id) == number_) ::kill(id, signal);
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
  all.leaders.erase(number_);
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
    } else if (run->second == 0 || run->second == child) {
      continue;  // The first process is the run's own to reap, and until it is known any of its number may be it.
    }
    ::waitpid(child, nullptr, WNOHANG);
  }
  return is_any_left;
}

void end_all_kin() {
  for (int i = 0; i < kMostPauses && end_orphans(); ++i) std::this_thread::sleep_for(kPause);
}

}  // namespace porter::run
