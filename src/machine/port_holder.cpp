// From /proc/net/tcp to a socket's inode, and from there to the process that has it open.
#include "machine/port_holder.hpp"

#include <arpa/inet.h>
#include <linux/inet_diag.h>
#include <linux/netlink.h>
#include <linux/sock_diag.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <vector>

#include "core/files/descriptor.hpp"
#include "core/text/text.hpp"

namespace porter::machine {
namespace {

namespace fs = std::filesystem;

/// A row of the tables of sockets in /proc/net.
struct SocketRow {
  unsigned long local_port = 0;
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

bool is_end_held(const ConnectionEnd& local, const ConnectionEnd& remote) {
  // The system is asked for this one socket (sock_diag(7)): its table of all of them may have many thousand rows.
  struct {
    nlmsghdr head{};
    inet_diag_req_v2 asked{};
  } question;
  question.head = {sizeof question, SOCK_DIAG_BY_FAMILY, NLM_F_REQUEST, 0, 0};
  inet_diag_sockid& id = question.asked.id;
  const bool is_v6 = local.address.find(':') != std::string::npos;
  question.asked.sdiag_family = is_v6 ? AF_INET6 : AF_INET;
  question.asked.sdiag_protocol = IPPROTO_TCP;
  question.asked.idiag_states = ~0U;
  id.idiag_sport = htons(local.port);
  id.idiag_dport = htons(remote.port);
  id.idiag_cookie[0] = id.idiag_cookie[1] = INET_DIAG_NOCOOKIE;
  const bool are_addresses = ::inet_pton(question.asked.sdiag_family, local.address.c_str(), id.idiag_src) == 1 &&
                             ::inet_pton(question.asked.sdiag_family, remote.address.c_str(), id.idiag_dst) == 1;
  const files::Descriptor system(::socket(AF_NETLINK, SOCK_DGRAM | SOCK_CLOEXEC, NETLINK_SOCK_DIAG));
  if (!are_addresses || !system.is_open()) return true;
  if (::send(system.get(), &question, sizeof question, 0) != static_cast<ssize_t>(sizeof question)) return true;
  alignas(nlmsghdr) std::array<char, 4096> response{};
  // It has been answered by now, within send().
  const ssize_t got = ::recv(system.get(), response.data(), response.size(), MSG_DONTWAIT);
  nlmsghdr head{};
  if (got < static_cast<ssize_t>(sizeof head)) return true;
  std::memcpy(&head, response.data(), sizeof head);
  if (head.nlmsg_type == NLMSG_ERROR) {
    nlmsgerr error{};
    std::memcpy(&error, response.data() + NLMSG_HDRLEN,
                std::min(sizeof error, static_cast<std::size_t>(got) - NLMSG_HDRLEN));
    return error.error != -ENOENT;
  }
  inet_diag_msg told{};
  if (got < static_cast<ssize_t>(NLMSG_HDRLEN + sizeof told)) return true;
  std::memcpy(&told, response.data() + NLMSG_HDRLEN, sizeof told);
  // A socket whose process has closed it lives on for a while, and is nobody's.
  return told.idiag_inode != 0;
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
