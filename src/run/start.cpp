// Waiting for a slot or a process, and handing the request over. See start.hpp.
#include "run/start.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <boost/asio/steady_timer.hpp>
#include <cerrno>
#include <new>
#include <utility>

#include "core/findings/resources.hpp"
#include "core/script/judge.hpp"
#include "core/text/text.hpp"

namespace porter::run {
namespace {

/// How often one request is handed to another process because the one before had just gone.
constexpr int kMostAttempts = 100;

/// What has a slot, as a person is told: the first few of them.
std::string holders_of(const Gate::State& state, const Pool* pool, bool streams_too) {
  constexpr std::size_t kMostNamed = 5;
  const auto now = std::chrono::system_clock::now();
  std::string out;
  std::size_t named = 0;
  std::size_t more = 0;
  for (const Gate::Run& run : state.runs) {
    if ((run.streams && !streams_too) || (pool != nullptr && run.site != pool->order().site)) continue;
    if (named == kMostNamed) {
      ++more;
      continue;
    }
    const auto age = std::chrono::duration_cast<std::chrono::seconds>(now - run.since);
    out += fmt::format("{}{} (site {}, since {:%H:%M:%S}, for {})", named++ > 0 ? ", " : "", run.script, run.site,
                       fmt::localtime(std::chrono::system_clock::to_time_t(run.since)), text::format_span(age));
  }
  if (more > 0) out += fmt::format(" and {} more", more);
  return out;
}

class ScriptStart {
 public:
  ScriptStart(Asker& asker, ScriptOrder& order, std::shared_ptr<Gate> gate, StartFacts& facts)
      : asker_(asker), order_(order), gate_(std::move(gate)), facts_(facts) {}

  asio::awaitable<Started> fresh();
  asio::awaitable<Started> of_pool(const std::shared_ptr<PoolAccess>& share);
  asio::awaitable<Started> external(PoolAccess& share);

 private:
  Gate::Run at_gate() const { return {order_.script.path, std::string(order_.site), {}, 0, false}; }
  /// Waits for a slot at `gate`, which is that of `pool` unless that is null. Null: there is none, as `why` tells.
  asio::awaitable<Gate::Ticket> slot_at(Gate& gate, Pool* pool, NotStarted& why);
  /// Waits in the queue of `pool` with `request`. Null: in vain, as `why` tells.
  asio::awaitable<std::shared_ptr<QueuePlace>> process_of(PoolAccess& share, FastCgiRun::Order& request,
                                                          NotStarted& why);
  /// Hands `request` to `peer`. Null: that had just gone.
  std::shared_ptr<ScriptRun> hand_over(const std::shared_ptr<FastCgiPeer>& peer, FastCgiRun::Order& request);
  /// The finding for a script that has no slot, with those that have. `pool` is what it waited for; null: the gate.
  Finding no_slot(Pool* pool, Code code);
  /// What there is to be told where waiting for a slot has come to nothing.
  NotStarted in_vain(Pool* pool);
  NotStarted cannot_start(const StartError& error) const;
  /// True if `error` is a lack of descriptors that will be over in a moment.
  bool may_be_had_later(const StartError& error);
  /// Lets a process that was ended give back what it had.
  asio::awaitable<void> pause();
  NotStarted has_gone(std::string program) const {
    return {Finding{Code::fastcgi_closed, {{"program", std::move(program)}, {"file", order_.script.path}}}};
  }

  Asker& asker_;
  ScriptOrder& order_;
  const std::shared_ptr<Gate> gate_;
  StartFacts& facts_;
  bool is_at_gate_ = false;  ///< It counts among all runs already.
  const Clock::time_point since_ = Clock::now();
  const Clock::time_point until_ = since_ + asker_.patience();
};

Finding ScriptStart::no_slot(Pool* pool, Code code) {
  const auto bounds = gate_->bounds();
  const auto state = gate_->state();
  Finding finding{code, {}};
  const auto fact = [&finding](const char* name, std::size_t number) {
    finding.facts.emplace_back(name, std::to_string(number));
  };
  // Those that stream hold a slot only where all runs together are as many as can be.
  const bool is_full = pool == nullptr && state.runs.size() >= bounds.runs;
  std::string why;
  if (pool != nullptr && !pool->gate() && pool->state().processes < pool->order().at_once &&
      !pool->memory().has_room()) {
    why = taken_memory(pool->memory());
    fact("running", pool->state().processes);
    fact("waiting", pool->state().waiting);
    finding.facts.emplace_back("table", "limits");
    finding.facts.emplace_back("key", "pool-memory");
    finding.facts.emplace_back("example", '"' + text::format_limit(2 * pool->memory().bound()) + '"');
  } else if (pool != nullptr) {
    const auto& order = pool->order();
    fact("running", pool->gate() ? order.at_once : order.processes);
    fact("waiting", pool->state().waiting);
    finding.facts.emplace_back("table", "interpreter." + order.language);
    finding.facts.emplace_back("key", "processes");
    fact("example", 2 * order.processes);
  } else {
    fact("running", state.runs.size());
    fact("waiting", state.waiting);
    finding.facts.emplace_back("table", "limits");
    finding.facts.emplace_back("key", is_full ? "runs-most" : "runs");
    fact("example", 2 * (is_full ? bounds.runs : bounds.slots));
  }
  if (why.empty()) why = std::string(*finding.fact("running")) + " scripts are running, the most that is allowed";
  finding.facts.emplace_back("why", std::move(why));
  fact("queue", 2 * order_.limits.queue);
  fact("seconds", static_cast<std::size_t>(asker_.patience().count()));
  if (auto holders = holders_of(state, pool, is_full); !holders.empty())
    finding.facts.emplace_back("holders", std::move(holders));
  return finding;
}

NotStarted ScriptStart::in_vain(Pool* pool) {
  if (!asker_.has_left() && Clock::now() >= until_) return {no_slot(pool, Code::waited_too_long)};
  facts_.was_left_waiting = true;
  return {};
}

NotStarted ScriptStart::cannot_start(const StartError& error) const {
  const std::string& program = order_.script.interpreter;
  if (error.step == StartError::Step::resources) return {out_of_resources("start " + program, error.number)};
  return {script::judge_start(program, command_by_hand(order_.script), error.number, start_of(program))};
}

bool ScriptStart::may_be_had_later(const StartError& error) {
  const bool is_short = error.number == EMFILE || error.number == ENFILE;
  return is_short && Clock::now() < until_ && asker_.make_room();
}

asio::awaitable<void> ScriptStart::pause() {
  constexpr std::chrono::milliseconds kMoment{5};
  asio::steady_timer timer(asker_.executor(), kMoment);
  co_await timer.async_wait(kAwait);
}

asio::awaitable<Gate::Ticket> ScriptStart::slot_at(Gate& gate, Pool* pool, NotStarted& why) {
  if (Gate::Ticket ticket = gate.try_enter(at_gate())) co_return ticket;
  const std::shared_ptr<Gate::Place> place = gate.line_up(asker_.executor(), at_gate());
  if (!place) {
    why.finding = no_slot(pool, Code::too_many_runs);
    co_return nullptr;
  }
  asker_.when_left([place] { place->give_up(); });
  Gate::Ticket ticket = co_await place->slot_by(until_);
  asker_.when_left(nullptr);
  facts_.waited = Clock::now() - since_;
  // A script that nobody waits for any more is not started.
  if (ticket && !asker_.has_left()) co_return ticket;
  why = in_vain(pool);
  co_return nullptr;
}

asio::awaitable<Started> ScriptStart::fresh() {
  NotStarted why;
  order_.run.ticket = co_await slot_at(*gate_, nullptr, why);
  if (!order_.run.ticket) co_return std::move(why);
  const auto starts_at = Clock::now();
  while (!has_descriptors_for_one() && may_be_had_later({StartError::Step::resources, EMFILE})) {
    auto pausing = pause();
    co_await std::move(pausing);
  }
  auto started = ScriptRun::start(asker_.executor(), asker_.runs(), std::move(order_));
  if (auto* const finding = std::get_if<Finding>(&started)) co_return NotStarted{std::move(*finding)};
  facts_.took = Clock::now() - starts_at;
  co_return std::get<std::shared_ptr<ScriptRun>>(std::move(started));
}

std::shared_ptr<ScriptRun> ScriptStart::hand_over(const std::shared_ptr<FastCgiPeer>& peer,
                                                  FastCgiRun::Order& request) {
  const auto source = FastCgiRun::begin(asker_.executor(), asker_.runs(), peer, request);
  if (!source) return nullptr;
  try {
    if (!is_at_gate_) source->note_if_long([gate = gate_, run = at_gate()] { return gate->enter_beside(run); });
    return std::make_shared<ScriptRun>(source, order_);
  } catch (const std::bad_alloc&) {
    source->stop();  // It has begun, and nobody would give it an end.
    throw;
  }
}

asio::awaitable<std::shared_ptr<QueuePlace>> ScriptStart::process_of(PoolAccess& share, FastCgiRun::Order& request,
                                                                     NotStarted& why) {
  const std::shared_ptr<QueuePlace> place = share.line_up(request, order_.limits.queue);
  if (!place) {
    why.finding = no_slot(share.pool().get(), Code::too_many_runs);
    co_return nullptr;
  }
  asker_.when_left([place] { place->give_up(); });
  const bool has_come = co_await place->come_by(until_);
  asker_.when_left(nullptr);
  facts_.waited = Clock::now() - since_;
  if (has_come) place->give_back(request);
  // Of a client that has not waited for long it is not asked whether it is still there.
  const bool gave_up_waiting = !has_come || (!request.sent && facts_.waited >= kShortRun && asker_.has_left());
  if (!gave_up_waiting) co_return place;
  why = in_vain(share.pool().get());
  co_return nullptr;
}

asio::awaitable<Started> ScriptStart::of_pool(const std::shared_ptr<PoolAccess>& share) {
  auto request = pool_request(order_);
  request.others = share;
  if (gate_->is_full()) {
    // A run of a pool takes nobody's slot, but there may be too many in all.
    NotStarted why;
    request.ticket = co_await slot_at(*gate_, nullptr, why);
    if (!request.ticket) co_return std::move(why);
    is_at_gate_ = true;
  }
  std::shared_ptr<QueuePlace> place;
  for (int attempt = 0; attempt < kMostAttempts; ++attempt) {
    const auto starts_at = Clock::now();
    const auto taken = share->take(place.get());
    if (const auto* const error = std::get_if<StartError>(&taken)) {
      place.reset();
      const bool is_worth_another = may_be_had_later(*error);
      if (!is_worth_another) co_return cannot_start(*error);
      auto pausing = pause();
      co_await std::move(pausing);
      continue;
    }
    if (const auto* const peer = std::get_if<std::shared_ptr<FastCgiPeer>>(&taken)) {
      if ((*peer)->is_first_run()) facts_.took = Clock::now() - starts_at;
      facts_.persistent = {(*peer)->process()->id(), (*peer)->number_of_run(), {}};
      if (auto run = hand_over(*peer, request)) co_return run;
      place.reset();
      continue;
    }
    NotStarted why;
    auto waiting = process_of(*share, request, why);
    place = co_await std::move(waiting);
    if (!place) co_return std::move(why);
  }
  co_return has_gone(order_.script.interpreter);
}

asio::awaitable<Started> ScriptStart::external(PoolAccess& share) {
  Pool& pool = *share.pool();
  NotStarted why;
  auto request = external_request(order_);
  request.ticket = co_await slot_at(*pool.gate(), &pool, why);
  if (!request.ticket) co_return std::move(why);
  for (int attempt = 0; attempt < kMostAttempts; ++attempt) {
    const auto starts_at = Clock::now();
    auto reaching = share.external()->reach();
    auto reached = co_await std::move(reaching);
    if (auto* const finding = std::get_if<Finding>(&reached)) {
      finding->facts.emplace_back("file", order_.script.path);
      co_return NotStarted{std::move(*finding)};
    }
    if (asker_.has_left()) co_return NotStarted{};
    const auto peer = std::get<std::shared_ptr<FastCgiPeer>>(std::move(reached));
    facts_.took = Clock::now() - starts_at;
    facts_.persistent = {0, 0, peer->name()};
    if (auto run = hand_over(peer, request)) co_return run;
  }
  co_return has_gone("The external server");
}

}  // namespace

asio::awaitable<Started> start(Asker& asker, ScriptOrder& order, std::shared_ptr<Gate> gate,
                               std::shared_ptr<PoolAccess> share, StartFacts& facts) {
  ScriptStart one(asker, order, std::move(gate), facts);
  if (!share) {
    auto starting = one.fresh();
    Started started = co_await std::move(starting);
    co_return started;
  }
  if (share->external() != nullptr) {
    auto starting = one.external(*share);
    Started started = co_await std::move(starting);
    co_return started;
  }
  auto starting = one.of_pool(share);
  Started started = co_await std::move(starting);
  co_return started;
}

}  // namespace porter::run
