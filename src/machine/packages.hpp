// Debian's packages: whether there is one of a name in the lists on this machine.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <string>

#include "core/findings/finding.hpp"
#include "run/fresh/run.hpp"

namespace porter::machine {

namespace asio = boost::asio;

/// The finding about a missing module, with the command that installs it: the package, if the lists on this machine
/// have one of the name in its facts, else what the language itself has for that. Others come back as they are. Asks
/// apt-cache, which is looked for in `search_path`, as one of `runs`.
asio::awaitable<Finding> with_package(run::RunSet& runs, std::string search_path, Finding finding);

}  // namespace porter::machine
