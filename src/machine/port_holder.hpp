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

/// True if a process of this machine still has the end `local_port` of a TCP connection to `remote_port` open. Both
/// ends of a connection of this machine with itself stand in its tables; an end that was closed belongs to nobody any
/// more.
bool is_end_held(std::uint16_t local_port, std::uint16_t remote_port);

}  // namespace porter::machine
