// Handing a script's request to a process that is kept: at once if one is free, else as soon as its turn has come.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <cstddef>
#include <functional>
#include <memory>
#include <optional>
#include <utility>

#include "run/fastcgi_run.hpp"
#include "run/gate.hpp"
#include "run/kept_pool.hpp"
#include "run/script_order.hpp"
#include "server/answer/script_start.hpp"
#include "server/connection/turn.hpp"

namespace porter::server {

/// How often a request is handed to another process because the one before had just gone.
inline constexpr int kMostAttempts = 100;

/// What a gate is told of a run of `script`.
run::Gate::Run run_at_gate(Turn& turn, const sites::ScriptFound& script);

/// Has a run counted among all that run at the gate, should it last.
void count_if_long(Turn& turn, const sites::ScriptFound& script, run::FastCgiRun& run);

/// The finding for a script that has no turn, with those that have. `pool` is what it waited for; null: the gate.
Finding no_turn(Turn& turn, const run::KeptPool* pool, Code code);

/// True if waiting until `time` has come to nothing, whether the turn itself `came` in time or not: `why` tells then.
bool is_in_vain(Turn& turn, RunFacts& facts, const run::KeptPool* pool, bool came, run::Clock::time_point time,
                NotStarted& why);

/// One request on its way to a process. It is used on its turn's thread, and must not outlive it.
class KeptStart {
 public:
  /// `number` is that of the run in the turn's exchange, whose facts it fills in; `script` must outlive it. `share` has
  /// processes of its own. `is_short`: it will most probably have ended in a moment.
  KeptStart(Turn& turn, std::size_t number, const sites::ScriptFound& script, run::FastCgiRun::Order request,
            run::KeptShare& share, bool is_short = false);
  /// Leaves the queue, or stops what has begun.
  ~KeptStart();
  KeptStart(const KeptStart&) = delete;
  KeptStart& operator=(const KeptStart&) = delete;

  /// Hands the request over or lines up. Once, and first of all.
  void begin();
  /// Calls `then` as soon as the request has been handed over, or has failed to be, from where that has happened;
  /// null: nobody is to be called. After begin() has left it waiting.
  void when_begun(std::function<void()> then) { then_ = std::move(then); }
  bool is_waiting() const { return !source_ && !failure_; }
  /// The run, once the request has been handed over.
  const std::shared_ptr<run::FastCgiRun>& source() const { return source_; }
  /// The same for whoever goes on with it: until then it is stopped together with this.
  std::shared_ptr<run::FastCgiRun> take_source() { return std::exchange(source_, nullptr); }
  /// Waits for that, as long as the settings and the client do. What is there to be told if it comes to nothing.
  asio::awaitable<std::optional<NotStarted>> wait();

  /// What the process is kept in.
  const run::KeptPool* pool() const { return share_.pool().get(); }

 private:
  RunFacts& facts() { return turn_.exchange().runs[number_]; }
  /// Hands the request to a process that is free, or to a new one, or to what is set aside for it. False: none is free.
  bool hand_over();
  void line_up();
  /// True if the client is known to have left; of one that has not waited for long that is not asked.
  bool has_left() const;
  /// What it has lined up for is there.
  void come();

  Turn& turn_;
  const std::size_t number_;
  const sites::ScriptFound& script_;
  run::FastCgiRun::Order request_;
  run::KeptShare& share_;
  const run::Clock::time_point since_ = run::Clock::now();
  std::shared_ptr<run::KeptTurn> place_;  ///< In the queue.
  std::shared_ptr<run::FastCgiRun> source_;
  std::optional<NotStarted> failure_;
  std::function<void()> then_;
};

}  // namespace porter::server
