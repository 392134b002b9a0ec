// What a language's interpreter says of itself: the values that people look for, where it looks for modules, and which
// there are. Each is asked of the interpreter itself.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <nlohmann/json_fwd.hpp>
#include <string>

#include "machine/probe.hpp"
#include "run/fresh/run.hpp"

namespace porter::machine {

/// {"values": [{"name", "value"}], "search_paths": […], "modules": [{"name", "version"}]}; what is not known of it is
/// missing. Takes ten seconds at most. `found` must be installed.
asio::awaitable<nlohmann::json> facts_of(run::RunSet& runs, FoundInterpreter found, std::string search_path);

/// The information page that PHP makes of itself, as HTML; empty if it makes none.
asio::awaitable<std::string> information_page(run::RunSet& runs, FoundInterpreter found, std::string search_path);

}  // namespace porter::machine
