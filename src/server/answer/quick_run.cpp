// See quick_run.hpp.
#include "server/answer/quick_run.hpp"

#include <boost/asio/post.hpp>
#include <utility>

#include "core/http/status.hpp"
#include "core/script/judge.hpp"
#include "server/answer/answer.hpp"
#include "server/worker.hpp"

namespace porter::server {
namespace {

/// After so many runs in a row that took less than kShort the next one is taken for another.
constexpr unsigned kSurelyShort = 8;
constexpr std::chrono::milliseconds kShort{5};

/// What becomes of the head that `output` begins with, as it was found for the same one before, or now. Null: it is not
/// whole, or somebody has to look at it.
std::shared_ptr<const CachedScript::Answered> answered_by(const CachedScript& script, std::string_view output,
                                                          const AnswerFields& of_site, std::size_t most_head) {
  if (script.answered && output.starts_with(script.answered->head)) return script.answered;
  const auto length = script::script_head_length(output);
  if (!length || *length > most_head) return nullptr;
  auto parsed = script::parse_script_head(output.substr(0, *length));
  auto* const written = std::get_if<script::ScriptHead>(&parsed);
  if (written == nullptr || written->status != 200 || written->location || written->lacks_content_type())
    return nullptr;
  auto out = std::make_shared<CachedScript::Answered>();
  out->head = output.substr(0, *length);
  out->content_length = written->content_length;
  out->text = "HTTP/1.1 200 ";
  out->text += written->reason.empty() ? http::reason_phrase(200) : std::string_view(written->reason);
  out->text += "\r\n";
  out->line = out->text.size();
  AnswerHead head;
  for (auto& [name, value] : written->fields) head.fields.emplace_back(name, std::move(value));
  append_field_lines(out->text, head, of_site);
  if (out->head.size() + out->text.size() <= CachedScript::kMostHead) script.answered = out;
  return out;
}

/// What `script` is told of the request of `turn`, as it was composed for one that was the same, or now. Null: the
/// request cannot be understood.
std::shared_ptr<const CachedScript::Asked> asked_of(Turn& turn, const CachedScript& script) {
  const Ends& ends = turn.ends();
  const std::string_view head = turn.head_text();
  if (const auto& last = script.asked; last && last->head == head && last->client_address == ends.client_address &&
                                       last->server_port == ends.server_port &&
                                       last->server_address == ends.server_address)
    return last;
  if (read_target(turn)) return nullptr;
  const auto request = script_request(turn, turn.request(), script.found, script.runner, 0);
  auto asked = std::make_shared<CachedScript::Asked>();
  *asked = {std::string(head), ends.client_address, ends.server_address, ends.server_port,
            run::known_request(request, turn.settings().limits)};
  if (head.size() <= CachedScript::kMostHead) script.asked = asked;
  return asked;
}

}  // namespace

std::shared_ptr<QuickRun> QuickRun::begin(Turn& turn, std::shared_ptr<const CachedFile> file) {
  turn.take_head();
  if (!turn.writer().keeps_connection()) return nullptr;
  const CachedScript& script = *file->script;
  auto known = asked_of(turn, script);
  if (!known) return nullptr;
  run::KeptShare& share = turn.worker().kept_for(turn.served(), turn.site(), script.found);
  turn.exchange().runs.push_back(run_facts(script.runner, script.found));
  auto run = std::make_shared<QuickRun>(turn, std::move(file), std::move(known), share);
  run->start_.begin();
  if (!run->start_.is_waiting()) {
    run->await_answer();
  } else {
    run->start_.when_begun([quick = run.get()] { quick->await_answer(); });
  }
  return run;
}

QuickRun::QuickRun(Turn& turn, std::shared_ptr<const CachedFile> file, std::shared_ptr<const Asked> asked,
                   run::KeptShare& share)
    : turn_(turn),
      file_(std::move(file)),
      asked_(std::move(asked)),
      start_(turn, 0, script().found, run::kept_request(asked_->request, turn.ends().client_port), share,
             script().short_runs >= kSurelyShort) {}

QuickRun::~QuickRun() {
  const auto& source = start_.source();
  if (!source || source->has_ended()) return;
  source->forget_first();
  source->when_long(nullptr);
}

run::ScriptOrder QuickRun::order() const {
  auto asked = script_request(turn_, turn_.request(), script().found, script().runner, 0);
  asked.known = &asked_->request;
  return run::order_script(asked, {}, turn_.settings().limits, nullptr, run::Runs::kept);
}

void QuickRun::await_answer() {
  const auto& source = start_.source();
  if (!source) return leave();
  source->when_long([this] { start_.source()->leave_first(); });
  source->await_first([this] { settled_.call(); });
}

void QuickRun::leave() {
  // From a place of its own, since whoever waits goes on within the call.
  asio::post(turn_.executor(), [weak = weak_from_this()] {
    const auto self = weak.lock();
    if (!self || self->settled_.is_called()) return;
    if (const auto& source = self->start_.source()) return source->leave_first();
    self->start_.when_begun(nullptr);
    self->settled_.call();
  });
}

void QuickRun::look(run::Clock::time_point now) {
  if (start_.is_waiting() && now >= since_ + run::kShortRun) leave();
}

std::optional<ReadyAnswer> QuickRun::take_answer() {
  auto answer = read_answer();
  const auto& source = start_.source();
  const bool is_short = answer && source->known_end().duration < kShort;
  script().short_runs = is_short ? script().short_runs + 1 : 0;
  return answer;
}

std::optional<ReadyAnswer> QuickRun::read_answer() {
  const auto& source = start_.source();
  if (!source || !source->has_ended() || source->failure() || !source->error_text().empty()) return std::nullopt;
  const run::ProcessEnd& end = source->known_end();
  if (end.exit_status || end.signal || !turn_.may_stay()) return std::nullopt;
  const std::string_view output = source->first_output();
  const auto head = answered_by(script(), output, turn_.site().answer_fields, turn_.settings().limits.answer_head);
  if (!head) return std::nullopt;
  const std::string_view page = output.substr(head->head.size());
  if (page.empty() || (head->content_length && *head->content_length != page.size())) return std::nullopt;
  if (script().runner.name == "php-cgi" && script::holds_short_tag(page)) return std::nullopt;
  constexpr std::size_t kSpaceForLength = 64;
  text_.reserve(head->text.size() + kSpaceForLength);
  text_ = head->text;
  append_content_length(text_, page.size());
  Exchange& exchange = turn_.exchange();
  exchange.by = ByScript{};
  note_end(exchange.runs.back(), end);
  if (turn_.is_kept()) {
    exchange.trail = script().trail;
    exchange.runs.back().order = facts_of(order(), start_.pool());
  }
  const std::string_view text = text_;
  ReadyAnswer answer;
  answer.status_line = text.substr(0, head->line);
  answer.fields = text.substr(head->line);
  answer.body = page;
  return answer;
}

}  // namespace porter::server
