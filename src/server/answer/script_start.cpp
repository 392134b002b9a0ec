// Waiting for a turn or a process, and handing the request over. See script_start.hpp.
#include "server/answer/script_start.hpp"

#include <new>
#include <utility>

#include "core/files/paths.hpp"
#include "run/fastcgi_run.hpp"
#include "run/kept_pool.hpp"
#include "server/answer/kept_start.hpp"
#include "server/answer/quick_run.hpp"
#include "server/worker.hpp"

namespace porter::server {
namespace {

class ScriptStart {
 public:
  ScriptStart(Turn& turn, const run::ScriptRequest& asked, std::size_t number)
      : turn_(turn), asked_(asked), number_(number) {}

  asio::awaitable<Started> fresh(run::ScriptInput input);
  asio::awaitable<Started> kept(KeptStart& start, const run::ScriptOrder& order);
  asio::awaitable<Started> by_worker(run::KeptShare& share, run::ScriptOrder order);

  /// Notes what is run, and how, where that is recorded.
  void note_order(const run::ScriptOrder& order, const run::KeptPool* pool) {
    if (turn_.is_recording()) facts().order = facts_of(order, pool);
  }

 private:
  RunFacts& facts() { return turn_.exchange().runs[number_]; }
  run::Gate::Run at_gate() const { return run_at_gate(turn_, asked_.script); }
  /// Waits for a turn at `gate`, which is that of `pool` unless that is null. Null: there is none, as `why` tells.
  asio::awaitable<run::Gate::Ticket> wait_for_turn(run::Gate& gate, const run::KeptPool* pool, NotStarted& why);
  /// What is made of a run that has begun.
  Started begun(const std::shared_ptr<run::FastCgiRun>& source, const run::ScriptOrder& order);

  Turn& turn_;
  const run::ScriptRequest& asked_;
  std::size_t number_;
};

asio::awaitable<Started> ScriptStart::fresh(run::ScriptInput input) {
  run::Gate& gate = *turn_.snapshot().gate;
  NotStarted why;
  run::Gate::Ticket ticket = gate.try_enter(at_gate());
  if (!ticket) {
    const auto waits_since = run::Clock::now();
    ticket = co_await wait_for_turn(gate, nullptr, why);
    facts().turn_wait = run::Clock::now() - waits_since;
  }
  if (!ticket || turn_.is_aborted()) co_return std::move(why);
  auto order = run::order_script(asked_, std::move(input), turn_.settings().limits, std::move(ticket));
  note_order(order, nullptr);
  const auto starts_at = run::Clock::now();
  auto started = run::ScriptRun::start(turn_.executor(), turn_.worker().runs(), std::move(order));
  if (auto* const finding = std::get_if<Finding>(&started)) co_return NotStarted{std::move(*finding)};
  facts().start = run::Clock::now() - starts_at;
  co_return std::get<std::shared_ptr<run::ScriptRun>>(std::move(started));
}

Started ScriptStart::begun(const std::shared_ptr<run::FastCgiRun>& source, const run::ScriptOrder& order) {
  try {
    count_if_long(turn_, order.script, *source);
    return std::make_shared<run::ScriptRun>(source, order);
  } catch (const std::bad_alloc&) {
    source->stop();  // It has begun, and nobody would give it an end.
    throw;
  }
}

asio::awaitable<Started> ScriptStart::kept(KeptStart& start, const run::ScriptOrder& order) {
  auto waiting = start.wait();
  auto failure = co_await std::move(waiting);
  if (failure) co_return std::move(*failure);
  co_return begun(start.take_source(), order);
}

asio::awaitable<Started> ScriptStart::by_worker(run::KeptShare& share, run::ScriptOrder order) {
  const run::KeptPool& pool = *share.pool();
  const std::shared_ptr<run::Gate> gate = pool.gate();
  NotStarted why;
  note_order(order, &pool);
  auto request = run::worker_request(order);
  request.ticket = gate->try_enter(at_gate());
  if (!request.ticket) {
    const auto waits_since = run::Clock::now();
    request.ticket = co_await wait_for_turn(*gate, &pool, why);
    facts().turn_wait = run::Clock::now() - waits_since;
  }
  if (!request.ticket || turn_.is_aborted()) co_return std::move(why);
  for (int attempt = 0; attempt < kMostAttempts; ++attempt) {
    const auto starts_at = run::Clock::now();
    auto reaching = share.workers()->reach();
    auto reached = co_await std::move(reaching);
    if (auto* const finding = std::get_if<Finding>(&reached)) {
      finding->facts.emplace_back("file", asked_.script.path);
      co_return NotStarted{std::move(*finding)};
    }
    if (turn_.is_aborted() || turn_.has_client_left()) co_return NotStarted{};
    const auto peer = std::get<std::shared_ptr<run::FastCgiPeer>>(std::move(reached));
    facts().start = run::Clock::now() - starts_at;
    facts().kept = RunFacts::Kept{0, 0, peer->name()};
    const auto source = run::FastCgiRun::begin(turn_.executor(), turn_.worker().runs(), peer, request);
    if (source) co_return begun(source, order);
  }
  co_return NotStarted{Finding{Code::fastcgi_closed, {{"program", "The worker"}, {"file", asked_.script.path}}}};
}

asio::awaitable<run::Gate::Ticket> ScriptStart::wait_for_turn(run::Gate& gate, const run::KeptPool* pool,
                                                              NotStarted& why) {
  const std::shared_ptr<run::Gate::Place> place = gate.line_up(turn_.executor(), at_gate());
  if (!place) {
    why.finding = no_turn(turn_, pool, Code::too_many_runs);
    co_return nullptr;
  }
  turn_.when_client_leaves([place] { place->give_up(); });
  const auto time = run::Clock::now() + turn_.settings().limits.queue_time;
  run::Gate::Ticket ticket = co_await place->turn_by(time);
  turn_.when_client_leaves(nullptr);
  if (is_in_vain(turn_, facts(), pool, ticket != nullptr, time, why)) ticket.reset();
  co_return ticket;
}

}  // namespace

run::ScriptRequest script_request(Turn& turn, const Request& request, const sites::ScriptFound& script,
                                  const run::Runner& runner, int problem_status) {
  const Ends& ends = turn.ends();
  return {
      script,
      runner,
      turn.site(),
      request.head,
      request.target,
      run::caller_of(ends.client_address, ends.client_port, ends.server_address, ends.server_port, request.host.name),
      turn.worker().shared().supplies,
      problem_status,
      ends.is_this_computer};
}

RunFacts run_facts(const run::Runner& runner, const sites::ScriptFound& script) {
  RunFacts facts;
  facts.runner = runner.name;
  facts.script = script.path;
  return facts;
}

void note_end(RunFacts& facts, const run::ProcessEnd& end) {
  facts.exit_status = end.exit_status;
  facts.signal = end.signal;
  facts.duration = end.duration;
  facts.processor_time = end.processor_time;
  facts.peak_memory_kib = end.peak_memory_kib;
}

std::shared_ptr<const RunOrderFacts> facts_of(const run::ScriptOrder& order, const run::KeptPool* pool) {
  auto out = std::make_shared<RunOrderFacts>();
  if (pool != nullptr) {
    // It was started before, with what it needs for all of its runs.
    out->command = pool->command_text();
  } else {
    for (const std::string& word : order.run.arguments) (out->command += word) += '\0';
  }
  out->environment = order.environment().text();
  out->folder = files::folder_of(order.script.path);
  return out;
}

asio::awaitable<Started> start_script(Turn& turn, const run::ScriptRequest& asked, run::ScriptInput input,
                                      std::size_t number) {
  ScriptStart start(turn, asked, number);
  if (!run::is_kept(asked)) {
    Started started = co_await start.fresh(std::move(input));
    co_return started;
  }
  if (const std::shared_ptr<QuickRun> quick = turn.take_quick_run()) {
    const auto order = quick->order();
    start.note_order(order, quick->start().pool());
    Started started = co_await start.kept(quick->start(), order);
    co_return started;
  }
  run::KeptShare& share = turn.worker().kept_for(turn.served(), turn.site(), asked.script);
  auto order = run::order_script(asked, std::move(input), turn.settings().limits, nullptr, run::Runs::kept);
  if (share.workers() != nullptr) {
    Started started = co_await start.by_worker(share, std::move(order));
    co_return started;
  }
  start.note_order(order, share.pool().get());
  KeptStart one(turn, number, asked.script, run::kept_request(order), share);
  one.begin();
  Started started = co_await start.kept(one, order);
  co_return started;
}

}  // namespace porter::server
