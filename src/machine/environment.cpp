// See environment.hpp.
#include "machine/environment.hpp"

#include <arpa/inet.h>
#include <ifaddrs.h>
#include <net/if.h>
#include <netinet/in.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cstdlib>
#include <memory>
#include <optional>
#include <string_view>

#include "core/files/content.hpp"
#include "core/text/text.hpp"
#include "machine/php.hpp"

namespace porter::machine {

std::string search_path() {
  const char* const path = std::getenv("PATH");
  return path != nullptr ? path : "/usr/local/bin:/usr/bin:/bin";
}

std::vector<std::string> passed_on() {
  std::vector<std::string> out = {"PATH=" + search_path()};
  for (const char* const name : {"HOME", "LANG", "TZ"})
    if (const char* const value = std::getenv(name)) out.push_back(std::string(name) + "=" + value);
  return out;
}

run::Supplies supplies() { return {passed_on(), opcode_folder()}; }

bool has_display() {
  const auto is_set = [](const char* name) {
    const char* const value = std::getenv(name);
    return value != nullptr && *value != '\0';
  };
  return is_set("DISPLAY") || is_set("WAYLAND_DISPLAY");
}

std::vector<std::string> network_addresses() {
  std::vector<std::string> out;
  ifaddrs* all = nullptr;
  if (::getifaddrs(&all) != 0) return out;
  const std::unique_ptr<ifaddrs, void (*)(ifaddrs*)> held(all, ::freeifaddrs);
  std::vector<std::string> of_v6;
  for (const ifaddrs* one = all; one != nullptr; one = one->ifa_next) {
    if (one->ifa_addr == nullptr || (one->ifa_flags & IFF_LOOPBACK) != 0 || (one->ifa_flags & IFF_UP) == 0) continue;
    std::array<char, INET6_ADDRSTRLEN> text{};
    if (one->ifa_addr->sa_family == AF_INET) {
      const auto* const address = reinterpret_cast<const sockaddr_in*>(one->ifa_addr);
      if (::inet_ntop(AF_INET, &address->sin_addr, text.data(), text.size()) != nullptr) out.emplace_back(text.data());
    } else if (one->ifa_addr->sa_family == AF_INET6) {
      const auto* const address = reinterpret_cast<const sockaddr_in6*>(one->ifa_addr);
      // A link-local address needs the name of an interface, which a URL cannot hold.
      if (IN6_IS_ADDR_LINKLOCAL(&address->sin6_addr)) continue;
      if (::inet_ntop(AF_INET6, &address->sin6_addr, text.data(), text.size()) != nullptr)
        of_v6.emplace_back(text.data());
    }
  }
  out.insert(out.end(), of_v6.begin(), of_v6.end());
  return out;
}

std::vector<std::string> kept_from_scripts() {
  // What a session sets by itself, which nobody means for scripts.
  static const auto kNames = text::parts_of(
      "PWD OLDPWD SHLVL SHELL TERM USER LOGNAME MAIL HOSTNAME EDITOR VISUAL PAGER DISPLAY "
      "WAYLAND_DISPLAY COLORTERM LS_COLORS LESS LESSOPEN LESSCLOSE MANPATH INFOPATH NOTIFY_SOCKET "
      "INVOCATION_ID JOURNAL_STREAM WINDOWID TMPDIR NO_COLOR COLUMNS LINES _ DEBIAN_FRONTEND MAKEFLAGS "
      "MAKELEVEL MFLAGS PS1 LISTEN_FDS LISTEN_PID LANGUAGE",
      ' ');
  static const auto kBeginnings = text::parts_of(
      "XDG_ LC_ DBUS_ SSH_ GPG_ GTK_ QT_ KDE_ GNOME_ VTE_ TMUX STY SUDO_ SYSTEMD_ PORTER_ BASH_ ASAN_ "
      "UBSAN_ TSAN_ CCACHE_",
      ' ');
  // What the session had from its beginning was exported by nobody.
  const auto environment_of = [](pid_t process) {
    return files::content_of("/proc/" + std::to_string(process) + "/environ");
  };
  std::optional<std::string> begun = environment_of(::getsid(0));
  // In a container the session may have been begun outside, where nothing of it can be seen.
  if (!begun) begun = environment_of(::getppid());
  const std::string before = '\0' + begun.value_or("");
  const std::vector<std::string> passed = passed_on();
  std::vector<std::string> out;
  for (const std::string& variable : own_environment()) {
    const std::string name = variable.substr(0, variable.find('='));
    const bool is_passed =
        std::any_of(passed.begin(), passed.end(), [&](const std::string& one) { return one.starts_with(name + "="); });
    const bool is_usual = std::find(kNames.begin(), kNames.end(), name) != kNames.end() ||
                          std::any_of(kBeginnings.begin(), kBeginnings.end(),
                                      [&](std::string_view one) { return name.starts_with(one); });
    if (name.empty() || is_passed || is_usual || before.find('\0' + variable + '\0') != before.npos) continue;
    out.push_back(name);
  }
  return out;
}

std::vector<std::string> own_environment() {
  std::vector<std::string> out;
  for (char* const* variable = environ; *variable != nullptr; ++variable) out.emplace_back(*variable);
  return out;
}

}  // namespace porter::machine
