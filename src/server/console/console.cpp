// See console.hpp.
#include "server/console/console.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <sys/random.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>

#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "machine/port_holder.hpp"
#include "server/server.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kKeyBytes = 32;
constexpr int kPortsTried = 100;
/// Any user of this computer may connect, and a browser opens six connections for each page.
constexpr std::size_t kMostClients = 128;

std::string random_key() {
  std::array<unsigned char, kKeyBytes> bytes{};
  for (std::size_t have = 0; have < bytes.size();) {
    const ssize_t got = ::getrandom(bytes.data() + have, bytes.size() - have, 0);
    if (got > 0) have += static_cast<std::size_t>(got);
  }
  std::string out;
  for (const unsigned char byte : bytes) out += fmt::format("{:02x}", byte);
  return out;
}

/// The key that the file holds, of the start before; empty if it holds none.
std::string key_in(const std::string& file) {
  std::string text = files::content_of(file).value_or("");
  const bool is_key = text.size() == 2 * kKeyBytes && text.find_first_not_of("0123456789abcdef") == std::string::npos;
  return is_key ? text : "";
}

}  // namespace

Console::Console(Server& server, Api& api, const machine::Instance& instance)
    : server_(server),
      instance_(instance),
      key_(random_key()),
      key_before_(key_in(instance.console_key)),
      responder_(api),
      worker_(server.shared(), server.context(), std::make_shared<const Snapshot>(), responder_, connections_),
      listeners_(server.context(), [this](int socket, const Endpoint&) { take(socket); }) {}

void Console::take(int socket) {
  if (connections_.load(std::memory_order_relaxed) >= kMostClients) {
    refuse_connection(socket, {Code::too_many_connections, {{"limit", std::to_string(kMostClients)}}});
    return;
  }
  const int on = 1;
  ::setsockopt(socket, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
  connections_.fetch_add(1, std::memory_order_relaxed);
  worker_.adopt(socket, {});
}

std::optional<Finding> Console::serve_at(const std::optional<Address>& wanted) {
  if (wanted == wanted_) return std::nullopt;
  if (!wanted) {
    listeners_.commit({});
    served_.reset();
    wanted_.reset();
    server_.shared().console_port = 0;
    return std::nullopt;
  }
  // Downwards: the ports above are those that sites are given.
  std::variant<std::vector<ListeningSocket>, ListenError> opened = ListenError{EADDRINUSE};
  Address address = *wanted;
  for (int i = 0; i < kPortsTried && address.port > 1024; ++i, --address.port) {
    opened = listen_on(address);
    const auto* const error = std::get_if<ListenError>(&opened);
    if (error == nullptr || error->number != EADDRINUSE) break;
  }
  if (const auto* const error = std::get_if<ListenError>(&opened))
    return Finding{Code::console_failed, {{"address", wanted->text()}, {"reason", files::describe({error->number})}}};
  Listeners::Change change{std::move(std::get<std::vector<ListeningSocket>>(opened)), address.endpoints()};
  instead_of_.clear();
  if (address.port != wanted->port) {
    const auto holder = machine::find_port_holder(wanted->port);
    instead_of_ = fmt::format("{} is taken by {}, so the console is at {}", wanted->port,
                              holder ? machine::text_of(*holder) : "another program", address.port);
  }
  wanted_ = wanted;
  served_ = address;
  server_.shared().console_port = address.port;
  responder_.open_with(address.port, key_, key_before_);
  write_key();
  listeners_.commit(std::move(change));
  return std::nullopt;
}

std::string Console::url() const {
  if (!served_) return {};
  const bool is_v6 = served_->reach == Address::Reach::one && served_->ip.find(':') != std::string::npos;
  const std::string host = is_v6 ? "[::1]" : served_->reach == Address::Reach::one ? "127.0.0.1" : "localhost";
  return fmt::format("http://{}:{}/#key={}", host, served_->port, key_);
}

void Console::write_key() const {
  ::mkdir(std::string(files::folder_of(instance_.console_key)).c_str(), 0700);
  // In one step, so that nobody finds half a key, and never where another may have put a link.
  const std::string fresh = instance_.console_key + ".new";
  ::unlink(fresh.c_str());
  const files::Descriptor file(::open(fresh.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0600));
  if (!file.is_open()) return;
  if (::write(file.get(), key_.data(), key_.size()) == static_cast<ssize_t>(key_.size()))
    ::rename(fresh.c_str(), instance_.console_key.c_str());
}

void Console::close() {
  listeners_.close();
  worker_.stop();
  worker_.abort();
}

}  // namespace porter::server
