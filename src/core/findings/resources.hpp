// The finding for system calls that fail because the machine or the process has run out of something.
#pragma once

#include <string>

#include "core/findings/finding.hpp"

namespace porter {

/// What could not be done ("open /srv/pages"), and why: `error` is the errno of the call that failed. What to do about
/// it depends on what is short.
Finding out_of_resources(const std::string& action, int error);

}  // namespace porter
