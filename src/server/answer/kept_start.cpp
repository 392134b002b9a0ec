// See kept_start.hpp.
#include "server/answer/kept_start.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <exception>
#include <utility>

#include "core/findings/resources.hpp"
#include "core/script/judge.hpp"
#include "core/text/text.hpp"
#include "server/worker.hpp"

namespace porter::server {

run::Gate::Run run_at_gate(Turn& turn, const sites::ScriptFound& script) {
  return {script.path, turn.site().name, {}, 0, false};
}

void count_if_long(Turn& turn, const sites::ScriptFound& script, run::FastCgiRun& run) {
  run.note_if_long(
      [gate = turn.snapshot().gate, at_gate = run_at_gate(turn, script)] { return gate->enter_beside(at_gate); });
}

bool is_in_vain(Turn& turn, RunFacts& facts, const run::KeptPool* pool, bool came, run::Clock::time_point time,
                NotStarted& why) {
  // A script that nobody waits for any more is not started.
  const bool has_left = turn.is_aborted() || turn.has_client_left();
  if (came && !has_left) return false;
  if (!has_left && run::Clock::now() >= time) {
    why.finding = no_turn(turn, pool, Code::waited_too_long);
    return true;
  }
  turn.writer().close_after();
  facts.was_left_waiting = true;
  return true;
}

Finding no_turn(Turn& turn, const run::KeptPool* pool, Code code) {
  constexpr std::size_t kMostNamed = 5;
  const auto bounds = turn.snapshot().gate->bounds();
  const auto state = turn.snapshot().gate->state();
  const auto now = std::chrono::system_clock::now();
  Finding finding{code, {}};
  const auto fact = [&finding](const char* name, std::size_t number) {
    finding.facts.emplace_back(name, std::to_string(number));
  };
  // Those that stream hold a turn only where all runs together are as many as can be.
  const bool is_full = pool == nullptr && state.runs.size() >= bounds.runs;
  if (pool != nullptr) {
    const auto& order = pool->order();
    fact("running", order.processes);
    fact("waiting", pool->waiting());
    finding.facts.emplace_back("key", "interpreter." + order.language + ".processes");
    fact("example", 2 * order.processes);
  } else {
    fact("running", state.runs.size());
    fact("waiting", state.waiting);
    finding.facts.emplace_back("key", is_full ? "runs-most" : "runs");
    fact("example", 2 * (is_full ? bounds.runs : bounds.turns));
  }
  fact("seconds", static_cast<std::size_t>(turn.settings().limits.queue_time.count()));
  std::string holders;
  std::size_t named = 0;
  std::size_t more = 0;
  for (const run::Gate::Run& run : state.runs) {
    if ((run.streams && !is_full) || (pool != nullptr && run.site != pool->order().site)) continue;
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

KeptStart::KeptStart(Turn& turn, std::size_t number, const sites::ScriptFound& script, run::FastCgiRun::Order request,
                     run::KeptShare& share, bool is_short)
    : turn_(turn), number_(number), script_(script), request_(std::move(request)), share_(share) {
  request_.is_short = is_short;
  request_.is_measured = turn.is_kept();
  request_.others = share_.shared_from_this();
}

KeptStart::~KeptStart() {
  try {
    if (source_) source_->stop();
    if (!place_) return;
    place_->when_come(nullptr);
    place_->give_up();
  } catch (const std::exception&) {
    // For lack of memory nobody reads it to its end: its deadline will come.
  }
}

void KeptStart::begin() {
  if (const auto* const home = share_.home()) turn_.move_connection(*home);
  if (!hand_over()) line_up();
}

bool KeptStart::hand_over() {
  for (int attempt = 0; attempt < kMostAttempts; ++attempt) {
    const auto starts_at = run::Clock::now();
    const auto taken = share_.take(place_.get());
    if (std::holds_alternative<run::KeptShare::NoneFree>(taken)) return false;
    if (const auto* const error = std::get_if<run::StartError>(&taken)) {
      const std::string& program = script_.interpreter;
      failure_.emplace();
      failure_->finding =
          error->step == run::StartError::Step::resources
              ? out_of_resources("start " + program, error->number)
              : script::judge_start(program, run::command_by_hand(script_), error->number, run::start_of(program));
      return true;
    }
    const auto& peer = std::get<std::shared_ptr<run::FastCgiPeer>>(taken);
    if (peer->is_first_run()) facts().start = run::Clock::now() - starts_at;
    facts().kept = RunFacts::Kept{peer->process()->id(), peer->number_of_run(), {}};
    source_ = run::FastCgiRun::begin(turn_.executor(), turn_.worker().runs(), peer, request_);
    if (source_) return true;
  }
  failure_ = NotStarted{Finding{Code::fastcgi_closed, {{"program", script_.interpreter}, {"file", script_.path}}}};
  return true;
}

void KeptStart::line_up() {
  place_ = share_.line_up(turn_.settings().limits.queue, [this] {
    const bool may_be_ahead = request_.is_short && request_.input == run::InputKind::nothing && !has_left();
    return may_be_ahead ? &request_.request : nullptr;
  });
  if (!place_) {
    failure_ = NotStarted{no_turn(turn_, share_.pool().get(), Code::too_many_runs)};
    return;
  }
  // A process that has become free goes on with this request at once, and a coroutine that waits when there is time.
  place_->when_come([this] { come(); });
}

bool KeptStart::has_left() const { return run::Clock::now() - since_ >= run::kShortRun && turn_.has_client_left(); }

void KeptStart::come() {
  facts().turn_wait = run::Clock::now() - since_;
  NotStarted why;
  bool is_over = has_left() && is_in_vain(turn_, facts(), share_.pool().get(), true, {}, why);
  if (is_over) {
    failure_ = std::move(why);
  } else {
    is_over = hand_over();
  }
  place_.reset();
  if (!is_over) line_up();
  if (is_waiting()) return;
  if (const auto then = std::exchange(then_, nullptr)) then();
}

asio::awaitable<std::optional<NotStarted>> KeptStart::wait() {
  const auto time = since_ + turn_.settings().limits.queue_time;
  bool is_over = !is_waiting();
  while (!is_over) {
    const auto place = place_;
    turn_.when_client_leaves([place] { place->give_up(); });
    const bool has_come = co_await place->come_by(time);
    NotStarted why;
    facts().turn_wait = run::Clock::now() - since_;
    // Whether the client is still there is the run's own to watch once it has begun.
    turn_.when_client_leaves(nullptr);
    if (is_waiting() && is_in_vain(turn_, facts(), share_.pool().get(), has_come, time, why)) co_return std::move(why);
    // It has come, but for lack of memory nothing has come of that.
    if (is_waiting() && place_ == place) come();
    is_over = !is_waiting();
  }
  if (source_ && turn_.is_aborted()) co_return NotStarted{};
  co_return std::move(failure_);
}

}  // namespace porter::server
