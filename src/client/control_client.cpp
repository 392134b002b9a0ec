// Requests over the control socket: one on each connection, whose end is the end of the answer.
#include "client/control_client.hpp"

#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include <array>
#include <cstdlib>
#include <cstring>

#include "core/files/descriptor.hpp"

namespace porter::client {
namespace {

/// What a server has for an answer; a reload may open files on slow disks. One that hangs must not hang its client too.
constexpr timeval kMostWait{20, 0};
constexpr timeval kForever{0, 0};

/// Connects and sends the request; not open: that could not be done.
files::Descriptor send_request(const machine::Instance& instance, const std::string& method, const std::string& target,
                               const nlohmann::json& body, timeval patience) {
  files::Descriptor socket(::socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0));
  sockaddr_un name{};
  name.sun_family = AF_UNIX;
  if (instance.socket.size() >= sizeof name.sun_path) return files::Descriptor();
  std::memcpy(name.sun_path, instance.socket.data(), instance.socket.size());
  if (::connect(socket.get(), reinterpret_cast<const sockaddr*>(&name), sizeof name) != 0) return files::Descriptor();
  ::setsockopt(socket.get(), SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof patience);
  const std::string content = body.is_null() ? "" : body.dump();
  const std::string request = method + " " + target +
                              " HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\n" +
                              "Content-Length: " + std::to_string(content.size()) + "\r\n\r\n" + content;
  std::size_t sent = 0;
  while (sent < request.size()) {
    const ssize_t some = ::send(socket.get(), request.data() + sent, request.size() - sent, MSG_NOSIGNAL);
    if (some <= 0) return files::Descriptor();
    sent += static_cast<std::size_t>(some);
  }
  return socket;
}

/// Appends what comes next; false: nothing more does.
bool receive(const files::Descriptor& socket, std::string& out) {
  std::array<char, 16384> buffer;
  const ssize_t got = ::recv(socket.get(), buffer.data(), buffer.size(), 0);
  if (got > 0) out.append(buffer.data(), static_cast<std::size_t>(got));
  return got > 0;
}

}  // namespace

Reply ask(const machine::Instance& instance, const std::string& method, const std::string& target,
          const nlohmann::json& body) {
  const files::Descriptor socket = send_request(instance, method, target, body, kMostWait);
  if (!socket.is_open()) return {0, "its control socket " + instance.socket + " cannot be reached"};
  std::string answer;
  while (receive(socket, answer)) {
  }
  const std::size_t end = answer.find("\r\n\r\n");
  if (!answer.starts_with("HTTP/1.1 ") || end == answer.npos)
    return {0, "it does not answer at its control socket " + instance.socket};
  return {std::atoi(answer.c_str() + 9), nlohmann::json::parse(answer.substr(end + 4), nullptr, false)};
}

bool ask_for_lines(const machine::Instance& instance, const std::string& target,
                   const std::function<bool(const nlohmann::json&)>& take) {
  const files::Descriptor socket = send_request(instance, "GET", target, nullptr, kForever);
  if (!socket.is_open()) return false;
  std::string received;
  bool in_head = true;
  while (receive(socket, received)) {
    if (in_head) {
      const std::size_t end = received.find("\r\n\r\n");
      if (end == received.npos) continue;
      received.erase(0, end + 4);
      in_head = false;
    }
    for (std::size_t end = 0; (end = received.find('\n')) != received.npos; received.erase(0, end + 1))
      if (!take(nlohmann::json::parse(received.substr(0, end), nullptr, false))) return true;
  }
  return !in_head;
}

}  // namespace porter::client
