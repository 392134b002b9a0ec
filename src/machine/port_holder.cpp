// From /proc/net/tcp to a socket's inode, and from there to the process that has it open.
#include "machine/port_holder.hpp"

#include <unistd.h>

#include <array>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <vector>

#include "core/text/text.hpp"

namespace porter::machine {
namespace {

namespace fs = std::filesystem;

/// A row of the tables of sockets in /proc/net.
struct SocketRow {
  unsigned long local_port = 0;
  unsigned long remote_port = 0;
  std::string state;
  std::string inode;  ///< "0": it belongs to no process any more.
};

std::vector<SocketRow> socket_rows(const char* table) {
  std::vector<SocketRow> out;
  std::ifstream file(table);
  std::string line;
  std::getline(file, line);
  const auto port_of = [](const std::string& address) {
    const std::size_t colon = address.rfind(':');
    return colon == std::string::npos ? 0UL : std::strtoul(address.c_str() + colon + 1, nullptr, 16);
  };
  while (std::getline(file, line)) {
    std::istringstream words(line);
    std::string slot, local, remote, queues, timer, retransmits, user, timeout;
    SocketRow row;
    words >> slot >> local >> remote >> row.state >> queues >> timer >> retransmits >> user >> timeout >> row.inode;
    row.local_port = port_of(local);
    row.remote_port = port_of(remote);
    out.push_back(std::move(row));
  }
  return out;
}

/// "socket:[INODE]" of each socket that listens on `port`, as the links in /proc/PID/fd show it.
std::vector<std::string> listening_sockets(const char* table, std::uint16_t port) {
  constexpr std::string_view kListen = "0A";
  std::vector<std::string> out;
  for (const SocketRow& row : socket_rows(table))
    if (row.state == kListen && row.local_port == port) out.push_back("socket:[" + row.inode + "]");
  return out;
}

bool has_open(const fs::path& process, const std::vector<std::string>& sockets) {
  std::error_code error;
  for (fs::directory_iterator entry(process / "fd", error), end; !error && entry != end; entry.increment(error)) {
    std::array<char, 64> link{};
    const ssize_t length = ::readlink(entry->path().c_str(), link.data(), link.size());
    if (length <= 0) continue;
    const std::string_view target(link.data(), static_cast<std::size_t>(length));
    for (const std::string& socket : sockets)
      if (target == socket) return true;
  }
  return false;
}

}  // namespace

std::string text_of(const PortHolder& holder) {
  return text::escape_line(holder.name) + " (process " + std::to_string(holder.id) + ")";
}

bool is_end_held(std::uint16_t local_port, std::uint16_t remote_port) {
  for (const char* const table : {"/proc/net/tcp", "/proc/net/tcp6"})
    for (const SocketRow& row : socket_rows(table))
      if (row.local_port == local_port && row.remote_port == remote_port && row.inode != "0") return true;
  return false;
}

int first_open_port() {
  int port = 1024;
  std::ifstream("/proc/sys/net/ipv4/ip_unprivileged_port_start") >> port;
  return port;
}

std::optional<PortHolder> find_port_holder(std::uint16_t port) {
  auto sockets = listening_sockets("/proc/net/tcp", port);
  const auto more = listening_sockets("/proc/net/tcp6", port);
  sockets.insert(sockets.end(), more.begin(), more.end());
  if (sockets.empty()) return std::nullopt;
  std::error_code error;
  for (fs::directory_iterator entry("/proc", error), end; !error && entry != end; entry.increment(error)) {
    const std::string name = entry->path().filename().string();
    if (name.find_first_not_of("0123456789") != std::string::npos || !has_open(entry->path(), sockets)) continue;
    PortHolder holder;
    holder.id = static_cast<pid_t>(std::atol(name.c_str()));
    std::ifstream comm(entry->path() / "comm");
    std::getline(comm, holder.name);
    return holder;
  }
  return std::nullopt;
}

}  // namespace porter::machine
