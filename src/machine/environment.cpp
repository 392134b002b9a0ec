// See environment.hpp.
#include "machine/environment.hpp"

#include <unistd.h>

#include <cstdlib>

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

std::vector<std::string> own_environment() {
  std::vector<std::string> out;
  for (char* const* variable = environ; *variable != nullptr; ++variable) out.emplace_back(*variable);
  return out;
}

}  // namespace porter::machine
