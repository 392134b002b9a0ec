// Running a script for a request: its input from the request's body, its response head, its page as it is written.
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <exception>
#include <thread>

#include "core/files/paths.hpp"
#include "core/http/findings.hpp"
#include "core/script/judge.hpp"
#include "core/text/text.hpp"
#include "machine/packages.hpp"
#include "run/start.hpp"
#include "server/response/respond.hpp"
#include "server/response/spooled_body.hpp"
#include "server/worker.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kShownErrorLines = 12;
/// Bytes of what a script that failed had printed before.
constexpr std::size_t kShownPage = 4096;

/// The finding for a body that could not be read; nullopt if the client is just gone.
std::optional<Finding> body_finding(BodyRead read, const Settings& settings) {
  switch (read) {
    case BodyRead::malformed:
      return http::bad_chunks();
    case BodyRead::too_large:
      return Finding{Code::body_too_large, {{"limit", text::format_limit(settings.limits.body)}}};
    case BodyRead::too_slow:
      return Finding{Code::body_too_slow, {{"seconds", std::to_string(settings.limits.body_pause.count())}}};
    default:
      return std::nullopt;
  }
}

/// What is known of a run of `script` before it begins.
RunFacts run_facts(const run::Runner& runner, const sites::ScriptFound& script, const std::string& root) {
  RunFacts facts;
  facts.runner = runner.name;
  facts.language = script.rule == nullptr ? runner.name : script.rule->language;
  facts.script = script.path;
  if (root.size() > 1 && files::lies_in(script.path, root))
    facts.script_below_root = static_cast<std::uint32_t>(root.size() + 1);
  return facts;
}

/// How a script is run, for the records; `pool` is the one that runs it, null if it has a process of its own.
std::shared_ptr<const RunOrderFacts> facts_of(const run::ScriptOrder& order, const run::Pool* pool) {
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

/// The client of a turn, who asks for its script.
class TurnAsker : public run::Asker {
 public:
  explicit TurnAsker(Turn& turn) : turn_(turn) {}

  asio::any_io_executor executor() override { return turn_.executor(); }
  run::RunSet& runs() override { return turn_.worker().runs(); }
  std::chrono::seconds patience() const override { return turn_.settings().limits.queue_time; }
  bool has_left() override { return turn_.is_aborted() || turn_.has_client_left(); }
  void when_left(std::function<void()> then) override { turn_.when_client_leaves(std::move(then)); }
  bool make_room() override { return turn_.worker().shared().pools.end_longest_idle(); }

 private:
  Turn& turn_;
};

/// One script answering one request.
class ScriptResponse : public std::enable_shared_from_this<ScriptResponse> {
 public:
  ScriptResponse(Turn& turn, const Request& request, std::shared_ptr<const sites::ScriptFound> script, WayToScript way)
      : turn_(turn),
        request_(request),
        found_(std::move(script)),
        script_(*found_),
        way_(std::move(way)),
        feeding_done_(turn.executor()) {}

  asio::awaitable<void> answer();
  /// Ends the run and all that belongs to it, after answer() has thrown.
  asio::awaitable<void> give_up();

 private:
  /// Prepares the request's body. False: it could not be read, and that has been answered.
  asio::awaitable<bool> prepare_input(run::ScriptInput& input);
  /// What the script is asked, which is `known` in all but the caller's port unless that is null.
  run::ScriptRequest asked(const run::KnownRequest* known) const;
  /// What the script is told, composed for a request that was the same, or now; null: that is not known before.
  std::shared_ptr<const CachedScript::Asked> asked_before() const;
  /// Waits for a turn and starts the script. False: it could not be started, and that has been answered.
  asio::awaitable<bool> start(run::ScriptInput input);
  bool input_has_to_be_fed() const {
    return request_.framing.kind == http::BodyFraming::Kind::length && !is_body_for_another();
  }
  /// The request's body has been offered to another script, or its problem is what this one tells of.
  bool is_body_for_another() const { return way_.redirects > 0 || way_.problem_status > 0; }
  void begin_feeding();
  /// Hands the request's body to the script, and waits for the client to leave then.
  asio::awaitable<void> feed();
  asio::awaitable<void> stop_feeding();
  /// The client has left: the script goes on for nobody.
  void leave();
  /// Sends what the run has come to.
  asio::awaitable<void> send(const run::ScriptRun::Direct& direct);
  asio::awaitable<void> send(const run::ScriptRun::Page& page);
  /// Sends a part of the page. False: the client does not take it.
  asio::awaitable<bool> hand_on(const run::Pieces& pieces);
  ResponseHead make_head(bool is_whole);
  asio::awaitable<void> explain(std::optional<Finding> finding);
  asio::awaitable<void> redirect_locally(const std::string& location);
  RunFacts& facts() { return turn_.exchange().runs[number_]; }
  /// Remembers what the path leads to, so that the next request for it need not be looked up.
  void remember();
  /// Notes what is known of the run's end.
  void note_end();
  /// Notes what a request that waited for long has waited for: a process of `share`, or a slot if that is null.
  void note_long_wait(run::PoolAccess* share);
  /// Notes what the script wrote to its error stream.
  void note_errors();
  void note(const std::optional<Finding>& finding) {
    if (finding) turn_.exchange().findings.push_back(*finding);
  }
  pages::Written what_it_wrote() const;
  asio::awaitable<void> problem(Finding finding) { return problem(std::move(finding), pages::Written()); }
  asio::awaitable<void> problem(Finding finding, pages::Written written) {
    if (known_) turn_.exchange().trail = known_->trail;
    if (way_.problem_status > 0) return answer_with_our_page(turn_, &request_, std::move(finding), std::move(written));
    return answer_problem(turn_, &request_, std::move(finding), std::move(written));
  }

  Turn& turn_;
  const Request& request_;
  const std::shared_ptr<const sites::ScriptFound> found_;
  const sites::ScriptFound& script_;
  run::Runner runner_;
  std::shared_ptr<const CachedScript> known_;  ///< Null: the path was looked up for this request.
  WayToScript way_;
  std::size_t number_ = 0;  ///< Among the runs of the exchange.
  std::shared_ptr<run::ScriptRun> run_;
  enum class Feeding { not_begun, begun, over } feeding_ = Feeding::not_begun;
  run::Event feeding_done_;
  BodyRead fed_ = BodyRead::end;
  std::optional<run::Clock::time_point> left_at_;  ///< When the client did, before the script had ended.
};

asio::awaitable<void> ScriptResponse::answer() {
  if (turn_.known_script() && way_.redirects == 0 && way_.problem_status == 0) known_ = turn_.known_script()->script;
  runner_ = known_ ? known_->runner : turn_.runners().of(script_, turn_.worker().shared().supplies.opcodes);
  Exchange& exchange = turn_.exchange();
  number_ = exchange.runs.size();
  exchange.runs.push_back(run_facts(runner_, script_, turn_.site().document_root));
  exchange.runs.back().is_for_problem = way_.problem_status > 0;
  if (way_.problem_status == 0) exchange.by = ByScript{};
  run::ScriptInput input;
  bool ready = co_await prepare_input(input);
  if (ready) ready = co_await start(std::move(input));
  if (!ready) co_return;
  if (input_has_to_be_fed()) {
    begin_feeding();
  } else {
    // Whether the client has gone is worth knowing of a script that takes its time.
    run_->source().when_long([weak = weak_from_this()] {
      if (const auto self = weak.lock()) self->begin_feeding();
    });
  }
  auto verdict = co_await run_->verdict();
  if (auto* const none = std::get_if<run::ScriptRun::NoPage>(&verdict)) {
    co_await stop_feeding();
    note_end();
    co_await explain(std::move(none->finding));
  } else if (auto* const redirect = std::get_if<run::ScriptRun::LocalRedirect>(&verdict)) {
    co_await stop_feeding();
    co_await redirect_locally(redirect->location);
  } else if (auto* const page = std::get_if<run::ScriptRun::Page>(&verdict)) {
    // Behind a script that has ended its input goes nowhere, and that is known before the head goes out.
    if (page->is_whole) co_await stop_feeding();
    co_await send(*page);
    co_await stop_feeding();
    note_end();
  } else {
    co_await send(run::ScriptRun::Direct{});
    co_await stop_feeding();
    note_end();
  }
  if (left_at_) {
    const bool is_noted = run_->end().has_value();
    if (!is_noted) co_await run_->end_for_nobody();
    facts().went_on = run::Clock::now() - *left_at_;
    if (!is_noted) note_end();
  }
  note_errors();
}

void ScriptResponse::note_long_wait(run::PoolAccess* share) {
  RunFacts& run = facts();
  LongWaits::Wait wait;
  wait.time = run.queue_wait;
  const auto busy = [](std::size_t count, std::size_t most) {
    return std::to_string(count) + " of " + std::to_string(most) + " busy";
  };
  if (share == nullptr) {
    run::Gate& gate = *turn_.snapshot().gate;
    const std::size_t most = gate.bounds().slots;
    wait.what = "a slot to run its script";
    wait.why = busy(gate.state().runs.size(), most);
    wait.line = "[limits]\nruns = " + std::to_string(2 * most);
    run.waited_for = "a slot: " + wait.why;
  } else {
    const run::PoolOrder& order = share->pool()->order();
    const run::PoolMemory& memory = share->pool()->memory();
    const auto state = share->pool()->state();
    wait.what = "a process of " + order.language + " for the site " + order.site;
    if (state.processes < order.at_once && !memory.has_room()) {
      wait.why = run::taken_memory(memory);
      wait.line = "[limits]\npool-memory = \"" + text::format_limit(2 * memory.bound()) + "\"";
    } else {
      wait.why = busy(state.processes - state.idle, order.processes);
      wait.line = "[interpreter." + order.language + "]\nprocesses = " + std::to_string(2 * order.processes);
    }
    run.waited_for = "a process: " + wait.why;
  }
  turn_.worker().shared().long_waits.note(std::move(wait));
}

void ScriptResponse::note_errors() {
  if (script_.ignores_persistent && turn_.worker().shared().told_once.is_first(script_.path))
    note(Finding{Code::persistent_ignored, {{"file", script_.path}, {"site", turn_.site().name}}});
  if (turn_.exchange().findings.empty()) note(script::remark_on(script_.path, run_->source().error_text()));
  constexpr std::size_t kMostLines = 20;
  constexpr std::size_t kLongestLine = 1000;
  RunFacts& run = facts();
  for (std::string_view line : text::parts_of(run_->source().error_text(), '\n')) {
    if (line.ends_with('\r')) line.remove_suffix(1);
    if (line.find_first_not_of(" \t") == line.npos) continue;
    if (run.error_lines.size() == kMostLines) {
      ++run.more_error_lines;
    } else {
      run.error_lines.emplace_back(line.substr(0, kLongestLine));
    }
  }
}

void ScriptResponse::note_end() {
  const auto& end = run_->end();
  if (!end) return;
  RunFacts& run = facts();
  run.exit_status = end->exit_status;
  run.signal = end->signal;
  run.duration = end->duration;
  run.processor_time = end->processor_time;
  run.peak_memory_kib = end->peak_memory_kib;
  if (const auto& left = run_->source().left_running(); !left.empty())
    note(Finding{Code::left_running,
                 {{"file", script_.path}, {"left", text::listed(left)}, {"site", turn_.site().name}}});
}

void ScriptResponse::remember() {
  const bool is_plain =
      way_.redirects == 0 && way_.problem_status == 0 && request_.head.method == "GET" && script_.path_info.empty();
  const auto path = path_to_keep(request_.target, is_plain && script_.cannot_be_shadowed);
  if (!path) return;
  auto script = std::make_shared<CachedScript>();
  script->found = script_;
  script->runner = runner_;
  script->trail = turn_.exchange().trail;
  CachedFile file;
  file.path = script_.path;
  file.info = script_.info;
  file.script = std::move(script);
  turn_.files().keep({turn_.number_of(turn_.site()), *path}, std::move(file), turn_.exchange().begun);
}

asio::awaitable<bool> ScriptResponse::prepare_input(run::ScriptInput& input) {
  // A local redirect is answered as if it were a GET (RFC 3875, section 6.2.2): the body belongs to the first script.
  if (is_body_for_another()) co_return true;
  if (request_.framing.kind == http::BodyFraming::Kind::length) {
    input.length = request_.framing.length;
    if (request_.framing.length > 0) input.kind = run::InputKind::pipe;
  }
  if (request_.framing.kind != http::BodyFraming::Kind::chunked) co_return true;
  Spooled spooled = co_await spool_body(turn_.body(), turn_.worker().shared().helpers.pages);
  if (spooled.result == BodyRead::end && spooled.error == 0) {
    input = {run::InputKind::file, std::move(spooled.file), spooled.length};
    co_return true;
  }
  turn_.writer().close_after();
  if (spooled.error != 0) {
    co_await problem(spool_finding(spooled.error));
  } else if (auto finding = body_finding(spooled.result, turn_.settings())) {
    co_await problem(std::move(*finding));
  }
  co_return false;
}

run::ScriptRequest ScriptResponse::asked(const run::KnownRequest* known) const {
  const Ends& ends = turn_.ends();
  script::Caller caller;
  caller.client_port = ends.client_port;
  if (known == nullptr)
    caller = run::caller_of(ends.client_address, ends.client_port, ends.server_address, ends.server_port,
                            request_.host.name);
  return {script_,
          runner_,
          turn_.site(),
          request_.head,
          request_.target,
          std::move(caller),
          turn_.worker().shared().supplies,
          way_.problem_status,
          ends.is_this_computer,
          known};
}

std::shared_ptr<const CachedScript::Asked> ScriptResponse::asked_before() const {
  if (!known_) return nullptr;
  const Ends& ends = turn_.ends();
  const std::string_view head = turn_.head_text();
  if (const auto& last = known_->asked; last && last->head == head && last->client_address == ends.client_address &&
                                        last->server_port == ends.server_port &&
                                        last->server_address == ends.server_address)
    return last;
  auto out = std::make_shared<CachedScript::Asked>();
  *out = {std::string(head), ends.client_address, ends.server_address, ends.server_port,
          run::known_request(asked(nullptr), turn_.settings().limits)};
  if (head.size() <= CachedScript::kMostHead) known_->asked = out;
  return out;
}

asio::awaitable<bool> ScriptResponse::start(run::ScriptInput input) {
  const auto before = asked_before();
  const auto asked = this->asked(before ? &before->request : nullptr);
  std::shared_ptr<run::PoolAccess> share;
  if (run::is_persistent(asked)) share = turn_.worker().pool_for(turn_.served(), turn_.site(), script_);
  if (share && !known_) share->pool()->note_script(script_.path, script_.info);
  auto order = run::order_script(asked, std::move(input), turn_.settings().limits,
                                 share ? run::Runs::persistent : run::Runs::fresh);
  order.is_measured = turn_.is_recorded();
  if (turn_.is_recording()) facts().order = facts_of(order, share ? share->pool().get() : nullptr);
  TurnAsker asker(turn_);
  run::StartFacts start;
  auto starting = run::start(asker, order, turn_.snapshot().gate, share, start);
  auto started = co_await std::move(starting);
  RunFacts& facts = this->facts();
  facts.queue_wait = start.waited;
  facts.start = start.took;
  facts.was_left_waiting = start.was_left_waiting;
  if (start.persistent)
    facts.persistent =
        RunFacts::Persistent{start.persistent->process, start.persistent->run, std::move(start.persistent->external)};
  if (start.waited >= kLongWait) note_long_wait(share.get());
  if (auto* const none = std::get_if<run::NotStarted>(&started)) {
    // Nothing is sent, so nothing may follow.
    if (!none->finding) turn_.writer().close_after();
    if (none->finding) co_await problem(std::move(*none->finding));
    co_return false;
  }
  run_ = std::get<std::shared_ptr<run::ScriptRun>>(std::move(started));
  if (turn_.is_aborted()) run_->stop();
  if (share && share->external() == nullptr && !known_) remember();
  turn_.set_source(run_->shared_source());
  co_return true;
}

pages::Written ScriptResponse::what_it_wrote() const {
  pages::Written written;
  written.errors = script::last_lines(run_->report().error_text, kShownErrorLines);
  if (run_->report().head) written.page = run_->gathered().substr(0, kShownPage);
  return written;
}

void ScriptResponse::begin_feeding() {
  if (feeding_ != Feeding::not_begun) return;
  asio::co_spawn(
      turn_.executor(), [self = shared_from_this()] { return self->feed(); },
      [self = shared_from_this()](const std::exception_ptr& failure) {
        if (failure) self->run_->stop();
        self->feeding_done_.set();
      });
  feeding_ = Feeding::begun;  // Only now is there anybody who will say that it is over.
}

asio::awaitable<void> ScriptResponse::feed() {
  const auto self = shared_from_this();
  if (input_has_to_be_fed()) {
    std::string_view data;
    for (bool is_taken = true; is_taken;) {
      run_->pause_clock();
      fed_ = co_await turn_.body().next(data);
      run_->resume_clock();
      // A script need not read its input; it goes on all the same.
      if (fed_ != BodyRead::data) break;
      is_taken = co_await run_->source().write(data);
    }
    if (turn_.is_reading_cancelled()) fed_ = BodyRead::data;
    // A part of a body must not pass for the whole: the script is stopped before it sees the end.
    if (fed_ != BodyRead::data && fed_ != BodyRead::end) run_->stop();
    run_->source().close_input();
  }
  if (fed_ == BodyRead::data || fed_ == BodyRead::end) {
    const bool has_left = co_await turn_.client_leaves();
    if (has_left) fed_ = BodyRead::gone;
    if (has_left) leave();
    co_return;
  }
  if (fed_ == BodyRead::gone) run_->stop();
}

void ScriptResponse::leave() {
  if (left_at_ || run_->source().has_ended()) return;
  left_at_ = run::Clock::now();
  run_->leave();
}

asio::awaitable<void> ScriptResponse::give_up() {
  if (!run_) co_return;
  run_->stop();
  co_await stop_feeding();
}

asio::awaitable<void> ScriptResponse::stop_feeding() {
  if (feeding_ == Feeding::not_begun) feeding_ = Feeding::over;
  if (feeding_ == Feeding::over) co_return;
  run_->source().close_input();
  turn_.cancel_reading();
  co_await feeding_done_.wait();
  feeding_ = Feeding::over;
  turn_.body().leave();
  turn_.resume_reading();
  if (fed_ == BodyRead::gone) turn_.writer().close_after();
}

ResponseHead ScriptResponse::make_head(bool is_whole) {
  const script::ScriptHead& written = run_->head();
  ResponseHead head;
  head.status = written.status;
  head.reason = written.reason;
  for (const auto& [name, value] : written.fields) head.fields.emplace_back(name, value);
  if (way_.problem_status > 0 && !written.has_status && !written.location) head.status = way_.problem_status;
  for (auto& [name, value] : way_.problem_fields)
    if (!written.has_field(name)) head.fields.emplace_back(name, std::move(value));
  head.length = written.content_length;
  if (!head.length && is_whole) head.length = run_->gathered().size();
  return head;
}

asio::awaitable<bool> ScriptResponse::hand_on(const run::Pieces& pieces) {
  // A slow client is not the script's to answer for.
  run_->pause_clock();
  const bool is_taken = co_await turn_.writer().body(pieces, {});
  run_->resume_clock();
  co_return is_taken;
}

asio::awaitable<void> ScriptResponse::send(const run::ScriptRun::Page& page) {
  note(page.finding);
  if (!page.finding && runner_.name == "php-cgi" && script::holds_short_tag(run_->gathered())) {
    Finding remark{Code::short_tags_off, {}};
    remark.facts.emplace_back("file", script_.path);
    remark.facts.emplace_back("file_quoted", text::shell_word(script_.path));
    turn_.exchange().findings.push_back(std::move(remark));
  }
  Writer& writer = turn_.writer();
  if (!page.is_whole) run_->source().response_has_begun(run_->head().is_event_stream());
  // The length of what was cut off is not that of the page.
  writer.begin(make_head(page.is_whole && !run_->was_cut_off()));
  run::Pieces pieces;
  if (!run_->gathered().empty()) pieces = co_await run_->read_page();
  bool is_taken = co_await hand_on(pieces);
  while (is_taken && !page.is_whole) {
    pieces = co_await run_->read_page();
    if (pieces.empty()) break;
    if (run_->sends_body()) is_taken = co_await hand_on(pieces);
  }
  if (!is_taken) {
    leave();
    co_return;
  }
  if (!page.is_whole) {
    const auto finding = co_await run_->judge_soon();
    note(finding);
  }
  // A program that has been killed has not finished its page. Only a connection cut short tells that to the client.
  if (run_->was_cut_off()) writer.cut_off();
  co_await writer.end();
}

asio::awaitable<void> ScriptResponse::send(const run::ScriptRun::Direct&) {
  Writer& writer = turn_.writer();
  writer.begin_directly();
  run_->source().response_has_begun(false);
  for (bool is_taken = true; is_taken;) {
    const run::Pieces pieces = co_await run_->read_page();
    if (pieces.empty()) break;
    is_taken = co_await hand_on(pieces);
    if (!is_taken) leave();
  }
}

asio::awaitable<void> ScriptResponse::redirect_locally(const std::string& location) {
  facts().redirected_to = location;
  if (way_.redirects >= run::kMostLocalRedirects) {
    co_await problem(run::too_many_redirects(location));
    co_return;
  }
  Exchange& exchange = turn_.exchange();
  exchange.trail.push_back(script_.path + " answered with a local redirect to " + location + ".");
  Request next = request_;
  auto target = http::parse_target(location, "GET");
  if (const auto* const error = std::get_if<http::TargetError>(&target)) {
    co_await problem(http::finding_of(*error));
    co_return;
  }
  next.target = std::move(std::get<http::Target>(target));
  if (!next.is_head()) next.head.method = "GET";
  auto route = sites::route_within(resolve_context_of(turn_), turn_.site(), {next.head.method, next.target});
  std::move(route.trail.begin(), route.trail.end(), std::back_inserter(exchange.trail));
  co_await answer_outcome(turn_, next, std::move(route.outcome), way_.redirects + 1);
}

asio::awaitable<void> ScriptResponse::explain(std::optional<Finding> finding) {
  if (fed_ == BodyRead::gone) co_return;
  if (auto body = body_finding(fed_, turn_.settings())) {
    turn_.writer().close_after();
    co_await problem(std::move(*body));
    co_return;
  }
  if (turn_.worker().is_stopping() && run_->report().signal) {
    finding = Finding{Code::server_stopping, {}};
    finding->facts.emplace_back("file", script_.path);
  }
  if (!finding) co_return;
  // Only where there is a package to ask for: the response to the others is not to wait for a coroutine.
  if (finding->code == Code::module_missing) {
    auto asking =
        machine::with_package(turn_.worker().runs(), turn_.worker().shared().search_path, std::move(*finding));
    finding = co_await std::move(asking);
  }
  co_await problem(std::move(*finding), what_it_wrote());
}

}  // namespace

asio::awaitable<void> answer_script(Turn& turn, const Request& request, std::shared_ptr<const sites::ScriptFound> found,
                                    WayToScript way) {
  const auto script = std::make_shared<ScriptResponse>(turn, request, std::move(found), std::move(way));
  std::exception_ptr failure;
  try {
    co_await script->answer();
  } catch (...) {
    failure = std::current_exception();
  }
  if (!failure) co_return;
  // What feeds the script refers to the request, which is about to go; so its end is insisted on.
  for (bool has_ended = false; !has_ended;) {
    try {
      co_await script->give_up();
      has_ended = true;
    } catch (const std::exception&) {
      std::this_thread::yield();
    }
  }
  std::rethrow_exception(failure);
}

}  // namespace porter::server
