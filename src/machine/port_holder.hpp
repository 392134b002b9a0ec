// Who listens on a port of this machine.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <optional>
#include <string>

namespace porter::machine {

struct PortHolder {
  pid_t id = 0;
  std::string name;  ///< The program's name, as the kernel has it.
};

/// "ferryd (process 4711)", fit for a terminal.
std::string text_of(const PortHolder& holder);

/// The first port that everybody may open; those below are the administrator's.
int first_open_port();

/// The process that listens on TCP port `port`; nullopt if there is none, or if it belongs to somebody else and the
/// kernel does not tell.
std::optional<PortHolder> find_port_holder(std::uint16_t port);

/// One end of a connection over TCP: an IP address without brackets, and a port.
struct ConnectionEnd {
  std::string address;
  std::uint16_t port = 0;
};
/// Whether a process of this computer still has the end `local` of the connection to `remote`. True also where that
/// cannot be told.
bool is_end_held(const ConnectionEnd& local, const ConnectionEnd& remote);

}  // namespace porter::machine
