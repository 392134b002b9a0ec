// The start of a script for a request: by a process of its own, once it has its turn; by one that is kept, once one is
// free; or by a worker that others have started.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <cstddef>
#include <memory>
#include <optional>
#include <variant>

#include "run/script_order.hpp"
#include "run/script_run.hpp"
#include "server/connection/turn.hpp"

namespace porter::server {

/// Why there is no run. No finding: the client has left, or the connection is cut off, so there is nobody to tell.
struct NotStarted {
  std::optional<Finding> finding;
};
using Started = std::variant<std::shared_ptr<run::ScriptRun>, NotStarted>;

/// Starts the script that `asked` is about, with `input`. What there is to be told of it goes into the run with that
/// `number` of the turn's exchange. Gives up as soon as the client leaves. What the turn has begun already is gone on
/// with.
asio::awaitable<Started> start_script(Turn& turn, const run::ScriptRequest& asked, run::ScriptInput input,
                                      std::size_t number);

/// The request of `turn`, or what took its place, to `script`.
run::ScriptRequest script_request(Turn& turn, const Request& request, const sites::ScriptFound& script,
                                  const run::Runner& runner, int problem_status);

/// What is known of a run of `script` before it begins.
RunFacts run_facts(const run::Runner& runner, const sites::ScriptFound& script);
/// Notes how a run has ended.
void note_end(RunFacts& facts, const run::ProcessEnd& end);

/// How a script is run, for the records; `pool` is what it is kept in, null if it has a process of its own.
std::shared_ptr<const RunOrderFacts> facts_of(const run::ScriptOrder& order, const run::KeptPool* pool);

}  // namespace porter::server
