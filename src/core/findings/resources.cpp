// Telling what is short. See resources.hpp.
#include "core/findings/resources.hpp"

#include <cerrno>
#include <system_error>

namespace porter {

Finding out_of_resources(const std::string& action, int error) {
  Finding finding{Code::server_resources, {{"action", action}, {"reason", std::generic_category().message(error)}}};
  if (error == EMFILE) {
    finding.facts.emplace_back("limit_of", "open files");
    finding.facts.emplace_back("limit", "65536");
  }
  return finding;
}

}  // namespace porter
