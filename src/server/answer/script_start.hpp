// The start of a script for a request: by a process of its own, once it has its turn; by one that is kept, once one is
// free; or by a worker that others have started.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <cstddef>
#include <memory>
#include <optional>
#include <variant>

#include "core/findings/finding.hpp"
#include "run/script_order.hpp"
#include "run/script_run.hpp"
#include "server/connection/turn.hpp"

namespace porter::server {

/// Why there is no run. No finding: the client has left, or the connection is cut off, so there is nobody to tell.
struct NotStarted {
  std::optional<Finding> finding;
};

/// Starts the script that `asked` is about, with `input`. What there is to be told of it goes into the run with that
/// `number` of the turn's exchange. Gives up as soon as the client leaves.
asio::awaitable<std::variant<std::shared_ptr<run::ScriptRun>, NotStarted>> start_script(Turn& turn,
                                                                                        const run::ScriptRequest& asked,
                                                                                        run::ScriptInput input,
                                                                                        std::size_t number);

}  // namespace porter::server
