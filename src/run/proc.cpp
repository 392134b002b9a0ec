// Reading what the system shows of processes. See proc.hpp.
#include "run/proc.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <system_error>

namespace porter::run {
namespace {

template <typename Number>
void read_number(std::string_view text, Number& out) {
  std::from_chars(text.data(), text.data() + text.size(), out);
}

}  // namespace

std::string proc_content(pid_t id, const std::string& name) {
  const std::string path = "/proc/" + std::to_string(id) + "/" + name;
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

void read_children(std::string_view list, std::vector<pid_t>& out) {
  while (!list.empty()) {
    pid_t child = 0;
    const auto [end, error] = std::from_chars(list.data(), list.data() + list.size(), child);
    if (error == std::errc{} && child > 1) out.push_back(child);
    list.remove_prefix(std::min(static_cast<std::size_t>(end - list.data()) + 1, list.size()));
  }
}

ChildList::ChildList(pid_t process) {
  const std::string id = std::to_string(process);
  file_.reset(::open(("/proc/" + id + "/task/" + id + "/children").c_str(), O_RDONLY | O_CLOEXEC));
}

std::vector<pid_t> ChildList::read() const {
  std::vector<pid_t> out;
  std::array<char, 4096> list;
  const ssize_t got = file_.is_open() ? ::pread(file_.get(), list.data(), list.size(), 0) : 0;
  if (got > 0) read_children({list.data(), static_cast<std::size_t>(got)}, out);
  return out;
}

std::optional<ProcessState> state_of(pid_t id) {
  const std::string content = proc_content(id, "stat");
  // "12 (name) S 1 …", and a name may hold anything.
  const std::size_t name_end = content.rfind(") ");
  if (name_end == content.npos) return std::nullopt;
  ProcessState out;
  std::string_view rest(content);
  rest.remove_prefix(name_end + 2);
  constexpr int kFirst = 3;  // As proc(5) counts the fields.
  for (int field = kFirst; !rest.empty(); ++field) {
    const std::string_view word = rest.substr(0, rest.find(' '));
    rest.remove_prefix(std::min(word.size() + 1, rest.size()));
    if (field == 3 && !word.empty()) out.state = word.front();
    if (field == 4) read_number(word, out.parent);
    if (field == 19) read_number(word, out.niceness);
    if (field == 22) read_number(word, out.begun);
    if (field == 32) read_number(word, out.blocked);
    if (field == 34) read_number(word, out.caught);
  }
  return out;
}

std::vector<std::string> mapped_programs(pid_t id) {
  std::vector<std::string> out;
  const std::string maps = proc_content(id, "maps");
  // "7f0c… r-xp 00001000 fe:00 812    /home/gulls/tide.so"
  for (std::string_view rest(maps); !rest.empty();) {
    const std::string_view line = rest.substr(0, rest.find('\n'));
    rest.remove_prefix(std::min(line.size() + 1, rest.size()));
    const std::size_t at = line.find('/');
    if (line.find(" r-xp ") == line.npos || at == line.npos) continue;
    const std::string_view path = line.substr(at);
    if (path.starts_with("/usr/") || path.starts_with("/lib") || path.ends_with(" (deleted)")) continue;
    if (std::find(out.begin(), out.end(), path) == out.end()) out.emplace_back(path);
  }
  return out;
}

std::string process_text(pid_t id) {
  constexpr std::size_t kMostShown = 80;
  std::string command = proc_content(id, "cmdline");
  while (command.ends_with('\0')) command.pop_back();
  std::replace(command.begin(), command.end(), '\0', ' ');
  if (command.empty()) return {};
  if (command.size() > kMostShown) command = command.substr(0, kMostShown) + "…";
  return command + " (process " + std::to_string(id) + ")";
}

}  // namespace porter::run
