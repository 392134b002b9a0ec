// The start of a script: the one place where a request is handed to a process of its own, to one of a pool, or to a
// program that others have started. For the server and for rehearsals alike.
#pragma once

#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <variant>

#include "core/findings/finding.hpp"
#include "run/gate.hpp"
#include "run/pool/pool.hpp"
#include "run/script_order.hpp"
#include "run/script_run.hpp"

namespace porter::run {

/// Whoever asks for a run, as far as its start has to know.
class Asker {
 public:
  virtual ~Asker() = default;

  virtual asio::any_io_executor executor() = 0;
  virtual RunSet& runs() = 0;
  /// How long it waits for its slot.
  virtual std::chrono::seconds patience() const = 0;
  /// True if nobody waits for the response any more.
  virtual bool has_left() = 0;
  /// Calls `then`, once, soon after that; null: nobody wants to know any more.
  virtual void when_left(std::function<void()> then) = 0;
  /// Descriptors are short: has something that can be done without give some back, soon. False: there is nothing.
  virtual bool make_room() = 0;
};

/// What there is to be told of a start, whatever has come of it.
struct StartFacts {
  Clock::duration waited{0};  ///< For its slot.
  Clock::duration took{0};    ///< To start a process, or to reach one that others have started.
  bool was_left_waiting = false;
  /// Who has the request that is there for one after another; nullopt: a process of its own.
  struct Persistent {
    pid_t process = 0;      ///< 0: that is not known.
    std::uint64_t run = 0;  ///< Which run of that process it is, from 1 on; 0: that is not known.
    std::string external;   ///< Where others have started it; empty: the server has.
  };
  std::optional<Persistent> persistent;
};

/// Why there is no run. No finding: whoever asked has left, so there is nobody to tell.
struct NotStarted {
  std::optional<Finding> finding;
};
using Started = std::variant<std::shared_ptr<ScriptRun>, NotStarted>;

/// Starts what `order` tells as soon as it has its slot: at `gate`, or among the processes of `share`, unless that is
/// null. All of them must outlive the start, and what `order` refers to must outlive the run.
asio::awaitable<Started> start(Asker& asker, ScriptOrder& order, std::shared_ptr<Gate> gate,
                               std::shared_ptr<PoolAccess> share, StartFacts& facts);

}  // namespace porter::run
