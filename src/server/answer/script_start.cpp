// Waiting for a turn or a process, and handing the request over. See script_start.hpp.
#include "server/answer/script_start.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <new>
#include <utility>

#include "core/findings/resources.hpp"
#include "core/script/judge.hpp"
#include "core/text/text.hpp"
#include "run/fastcgi_run.hpp"
#include "run/kept_pool.hpp"
#include "server/worker.hpp"

namespace porter::server {
namespace {

using Started = std::variant<std::shared_ptr<run::ScriptRun>, NotStarted>;

/// How often a request is handed to another process because the one before had just gone.
constexpr int kMostAttempts = 100;

class ScriptStart {
 public:
  ScriptStart(Turn& turn, const run::ScriptRequest& asked, std::size_t number)
      : turn_(turn), asked_(asked), number_(number) {}

  asio::awaitable<Started> fresh(run::ScriptInput input);
  asio::awaitable<Started> kept(run::ScriptOrder order);
  asio::awaitable<Started> by_worker(run::KeptShare& share, run::ScriptOrder order);

 private:
  /// Notes what is run, and how, where that is recorded.
  void note_order(const run::ScriptOrder& order);
  RunFacts& facts() { return turn_.exchange().runs[number_]; }
  run::Gate::Run run_at_gate() const { return {asked_.script.path, turn_.site().name, {}, 0, false}; }
  /// Waits for a turn at `gate`. Null: there is none, as `why` tells.
  asio::awaitable<run::Gate::Ticket> wait_for_turn(run::Gate& gate, NotStarted& why);
  /// Hands the request to a process that is free, or to a new one, or to what is set aside for `place`. nullopt: none
  /// is free.
  std::optional<Started> hand_over(run::KeptShare& share, run::KeptTurn* place, const run::ScriptOrder& order,
                                   run::FastCgiRun::Order& request);
  /// True if whoever waited has come to nothing: `came` in time or not.
  bool is_in_vain(bool came, run::Clock::time_point time, Code code, NotStarted& why);
  /// The finding for a script that has no turn, with those that have.
  Finding no_turn(Code code) const;
  run::FastCgiRun::Order order_for(const run::ScriptOrder& order);
  /// What is made of a run that has begun.
  Started begun(std::shared_ptr<run::FastCgiRun> source, const run::ScriptOrder& order);

  Turn& turn_;
  const run::ScriptRequest& asked_;
  std::size_t number_;
  const run::KeptPool* pool_ = nullptr;  ///< What it is kept in.
};

void ScriptStart::note_order(const run::ScriptOrder& order) {
  if (!turn_.is_recording()) return;
  auto facts_of_order = std::make_shared<RunOrderFacts>();
  if (pool_ != nullptr) {
    // It was started before, with what it needs for all of its runs.
    facts_of_order->command = pool_->command_text();
  } else {
    for (const std::string& word : order.run.arguments) (facts_of_order->command += word) += '\0';
  }
  facts_of_order->environment = order.run.environment.text();
  facts_of_order->folder = order.run.folder;
  facts().order = std::move(facts_of_order);
}

asio::awaitable<Started> ScriptStart::fresh(run::ScriptInput input) {
  run::Gate& gate = *turn_.snapshot().gate;
  NotStarted why;
  run::Gate::Ticket ticket = gate.try_enter(run_at_gate());
  if (!ticket) {
    const auto waits_since = run::Clock::now();
    ticket = co_await wait_for_turn(gate, why);
    facts().turn_wait = run::Clock::now() - waits_since;
  }
  if (!ticket || turn_.is_aborted()) co_return std::move(why);
  auto order = run::order_script(asked_, std::move(input), turn_.settings().limits, std::move(ticket));
  note_order(order);
  const auto starts_at = run::Clock::now();
  auto started = run::ScriptRun::start(turn_.executor(), turn_.worker().runs(), std::move(order));
  if (auto* const finding = std::get_if<Finding>(&started)) co_return NotStarted{std::move(*finding)};
  facts().start = run::Clock::now() - starts_at;
  co_return std::get<std::shared_ptr<run::ScriptRun>>(std::move(started));
}

run::FastCgiRun::Order ScriptStart::order_for(const run::ScriptOrder& order) {
  run::FastCgiRun::Order out{order.run.environment, order.run.input};
  out.error_stream_limit = order.limits.error_stream;
  out.processor_time = order.limits.processor_time;
  out.note_long = [gate = turn_.snapshot().gate, run = run_at_gate()] { return gate->enter_beside(run); };
  return out;
}

Started ScriptStart::begun(std::shared_ptr<run::FastCgiRun> source, const run::ScriptOrder& order) {
  try {
    return std::make_shared<run::ScriptRun>(source, order);
  } catch (const std::bad_alloc&) {
    source->stop();  // It has begun, and nobody would give it an end.
    throw;
  }
}

asio::awaitable<Started> ScriptStart::kept(run::ScriptOrder order) {
  run::KeptShare& share = turn_.worker().kept_for(turn_.served(), turn_.site(), asked_.script);
  if (share.workers() != nullptr) {
    Started started = co_await by_worker(share, std::move(order));
    co_return started;
  }
  pool_ = share.pool().get();
  note_order(order);
  auto request = order_for(order);
  request.input_file = std::move(order.run.input_file);
  const auto waits_since = run::Clock::now();
  std::optional<Started> started = hand_over(share, nullptr, order, request);
  while (!started) {
    NotStarted why;
    const auto place = share.line_up(turn_.settings().limits.queue);
    if (!place) co_return NotStarted{no_turn(Code::too_many_runs)};
    // A process that has become free goes on with this request at once, and the coroutine when there is time for it.
    place->when_come([&] { started = hand_over(share, place.get(), order, request); });
    turn_.when_client_leaves([place] { place->give_up(); });
    const auto time = waits_since + turn_.settings().limits.queue_time;
    const bool has_come = co_await place->come_by(time);
    place->when_come(nullptr);
    facts().turn_wait = run::Clock::now() - waits_since;
    // Whether the client is still there is the run's own to watch once it has begun.
    turn_.when_client_leaves(nullptr);
    if (started && !turn_.is_aborted()) break;
    if (is_in_vain(has_come, time, Code::waited_too_long, why)) {
      if (started)
        if (auto* const run = std::get_if<std::shared_ptr<run::ScriptRun>>(&*started)) (*run)->stop();
      co_return std::move(why);
    }
    if (!started) started = hand_over(share, place.get(), order, request);
  }
  co_return std::move(*started);
}

std::optional<Started> ScriptStart::hand_over(run::KeptShare& share, run::KeptTurn* place,
                                              const run::ScriptOrder& order, run::FastCgiRun::Order& request) {
  for (int attempt = 0; attempt < kMostAttempts; ++attempt) {
    const auto starts_at = run::Clock::now();
    const auto taken = share.take(place);
    if (std::holds_alternative<run::KeptShare::NoneFree>(taken)) return std::nullopt;
    if (const auto* const error = std::get_if<run::StartError>(&taken)) {
      const std::string& program = asked_.script.interpreter;
      if (error->step == run::StartError::Step::resources)
        return NotStarted{out_of_resources("start " + program, error->number)};
      return NotStarted{
          script::judge_start(program, run::command_by_hand(asked_.script), error->number, run::start_of(program))};
    }
    const auto& peer = std::get<std::shared_ptr<run::FastCgiPeer>>(taken);
    if (peer->is_first_run()) facts().start = run::Clock::now() - starts_at;
    facts().kept = RunFacts::Kept{peer->process()->id(), peer->number_of_run(), {}};
    request.another = [share = share.shared_from_this()]() -> std::shared_ptr<run::FastCgiPeer> {
      auto other = share->take();
      auto* const free = std::get_if<std::shared_ptr<run::FastCgiPeer>>(&other);
      return free == nullptr ? nullptr : std::move(*free);
    };
    auto source = run::FastCgiRun::begin(turn_.executor(), turn_.worker().runs(), peer, request);
    if (source) return begun(std::move(source), order);
  }
  return NotStarted{
      Finding{Code::fastcgi_closed, {{"program", asked_.script.interpreter}, {"file", asked_.script.path}}}};
}

asio::awaitable<Started> ScriptStart::by_worker(run::KeptShare& share, run::ScriptOrder order) {
  const std::shared_ptr<run::Gate> gate = share.pool()->gate();
  pool_ = share.pool().get();
  NotStarted why;
  note_order(order);
  auto request = order_for(order);
  request.ticket = gate->try_enter(run_at_gate());
  if (!request.ticket) {
    const auto waits_since = run::Clock::now();
    request.ticket = co_await wait_for_turn(*gate, why);
    facts().turn_wait = run::Clock::now() - waits_since;
  }
  if (!request.ticket || turn_.is_aborted()) co_return std::move(why);
  request.input_file = std::move(order.run.input_file);
  run::directive_parameters(*asked_.script.rule).each([&](std::string_view name, std::string_view value) {
    order.run.environment.add(name, value);
  });
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
    auto source = run::FastCgiRun::begin(turn_.executor(), turn_.worker().runs(), peer, request);
    if (source) co_return begun(std::move(source), order);
  }
  co_return NotStarted{Finding{Code::fastcgi_closed, {{"program", "The worker"}, {"file", asked_.script.path}}}};
}

bool ScriptStart::is_in_vain(bool came, run::Clock::time_point time, Code code, NotStarted& why) {
  turn_.when_client_leaves(nullptr);
  // A script that nobody waits for any more is not started.
  const bool has_left = turn_.is_aborted() || turn_.has_client_left();
  if (came && !has_left) return false;
  if (!has_left && run::Clock::now() >= time) {
    why.finding = no_turn(code);
    return true;
  }
  turn_.writer().close_after();
  facts().was_left_waiting = true;
  return true;
}

asio::awaitable<run::Gate::Ticket> ScriptStart::wait_for_turn(run::Gate& gate, NotStarted& why) {
  const std::shared_ptr<run::Gate::Place> place = gate.line_up(turn_.executor(), run_at_gate());
  if (!place) {
    why.finding = no_turn(Code::too_many_runs);
    co_return nullptr;
  }
  turn_.when_client_leaves([place] { place->give_up(); });
  const auto time = run::Clock::now() + turn_.settings().limits.queue_time;
  run::Gate::Ticket ticket = co_await place->turn_by(time);
  if (is_in_vain(ticket != nullptr, time, Code::waited_too_long, why)) ticket.reset();
  co_return ticket;
}

Finding ScriptStart::no_turn(Code code) const {
  constexpr std::size_t kMostNamed = 5;
  const auto bounds = turn_.snapshot().gate->bounds();
  const auto state = turn_.snapshot().gate->state();
  const auto now = std::chrono::system_clock::now();
  Finding finding{code, {}};
  const auto fact = [&finding](const char* name, std::size_t number) {
    finding.facts.emplace_back(name, std::to_string(number));
  };
  // Those that stream hold a turn only where all runs together are as many as can be.
  const bool is_full = pool_ == nullptr && state.runs.size() >= bounds.runs;
  if (pool_ != nullptr) {
    const auto& order = pool_->order();
    fact("running", order.processes);
    fact("waiting", pool_->waiting());
    finding.facts.emplace_back("key", "interpreter." + order.language + ".processes");
    fact("example", 2 * order.processes);
  } else {
    fact("running", state.runs.size());
    fact("waiting", state.waiting);
    finding.facts.emplace_back("key", is_full ? "runs-most" : "runs");
    fact("example", 2 * (is_full ? bounds.runs : bounds.turns));
  }
  fact("seconds", static_cast<std::size_t>(turn_.settings().limits.queue_time.count()));
  std::string holders;
  std::size_t named = 0;
  std::size_t more = 0;
  for (const run::Gate::Run& run : state.runs) {
    if ((run.streams && !is_full) || (pool_ != nullptr && run.site != pool_->order().site)) continue;
    if (named == kMostNamed) {
      ++more;
      continue;
    }
    const auto age = std::chrono::duration_cast<std::chrono::seconds>(now - run.since);
    holders += fmt::format("{}{} (site {}, since {:%H:%M:%S}, for {})", named++ > 0 ? ", " : "", run.script, run.site,
                           fmt::localtime(std::chrono::system_clock::to_time_t(run.since)), text::format_span(age));
  }
  if (more > 0) holders += fmt::format(" and {} more", more);
  if (!holders.empty()) finding.facts.emplace_back("holders", std::move(holders));
  return finding;
}

}  // namespace

asio::awaitable<std::variant<std::shared_ptr<run::ScriptRun>, NotStarted>> start_script(Turn& turn,
                                                                                        const run::ScriptRequest& asked,
                                                                                        run::ScriptInput input,
                                                                                        std::size_t number) {
  ScriptStart start(turn, asked, number);
  if (!run::is_kept(asked)) {
    Started started = co_await start.fresh(std::move(input));
    co_return started;
  }
  auto order = run::order_script(asked, std::move(input), turn.settings().limits, nullptr, run::Runs::kept);
  Started started = co_await start.kept(std::move(order));
  co_return started;
}

}  // namespace porter::server
