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

/// The head of an answer that nothing has to be said of; nullopt: somebody has to look at it.
std::optional<script::ScriptHead> read_plain_head(std::string_view output, std::size_t length, bool is_php) {
  auto parsed = script::parse_script_head(output.substr(0, length));
  auto* const head = std::get_if<script::ScriptHead>(&parsed);
  const std::string_view page = output.substr(length);
  if (head == nullptr || head->status != 200 || head->location || head->lacks_content_type()) return std::nullopt;
  if (page.empty() || (head->content_length && *head->content_length != page.size())) return std::nullopt;
  if (is_php && script::holds_short_tag(page)) return std::nullopt;
  return std::move(*head);
}

}  // namespace

std::shared_ptr<QuickRun> QuickRun::begin(Turn& turn, std::shared_ptr<const CachedFile> file) {
  turn.take_head();
  if (!turn.writer().keeps_connection() || read_target(turn)) return nullptr;
  const CachedScript& script = *file->script;
  run::KeptShare& share = turn.worker().kept_for(turn.served(), turn.site(), script.found);
  const auto asked = script_request(turn, turn.request(), script.found, script.runner, 0);
  auto order = run::order_script(asked, {}, turn.settings().limits, nullptr, run::Runs::kept);
  turn.exchange().runs.push_back(run_facts(script.runner, script.found));
  auto run = std::make_shared<QuickRun>(turn, std::move(file), std::move(order), share);
  run->start_.begin();
  if (!run->start_.is_waiting()) {
    run->await_answer();
  } else {
    run->start_.when_begun([quick = run.get()] { quick->await_answer(); });
  }
  return run;
}

QuickRun::QuickRun(Turn& turn, std::shared_ptr<const CachedFile> file, run::ScriptOrder order, run::KeptShare& share)
    : turn_(turn), file_(std::move(file)), start_(turn, 0, std::move(order), share) {}

QuickRun::~QuickRun() {
  const auto& source = start_.source();
  if (!source || source->has_ended()) return;
  source->forget_first();
  source->when_long(nullptr);
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
  const auto& source = start_.source();
  if (!source || !source->has_ended() || source->failure() || !source->error_text().empty()) return std::nullopt;
  const run::ProcessEnd& end = source->known_end();
  if (end.exit_status || end.signal || !turn_.may_stay()) return std::nullopt;
  const std::string_view output = source->first_output();
  const auto length = script::script_head_length(output);
  if (!length || *length > turn_.settings().limits.answer_head) return std::nullopt;
  auto written = read_plain_head(output, *length, script().runner.name == "php-cgi");
  if (!written) return std::nullopt;
  AnswerHead head;
  head.fields.reserve(written->fields.size());
  for (auto& [name, value] : written->fields) head.fields.emplace_back(name, std::move(value));
  head.length = output.size() - *length;
  constexpr std::size_t kSpaceForFields = 256;
  text_.reserve(output.size() + kSpaceForFields);
  text_ = "HTTP/1.1 200 ";
  text_ += written->reason.empty() ? http::reason_phrase(200) : std::string_view(written->reason);
  text_ += "\r\n";
  const std::size_t line = text_.size();
  append_field_lines(text_, head, turn_.site().answer_fields);
  const std::size_t fields = text_.size() - line;
  text_ += output.substr(*length);
  Exchange& exchange = turn_.exchange();
  exchange.by = ByScript{};
  note_end(exchange.runs.back(), end);
  if (turn_.is_kept()) {
    exchange.trail = script().trail;
    exchange.runs.back().order = facts_of(start_.order(), start_.pool());
  }
  const std::string_view text = text_;
  ReadyAnswer answer;
  answer.status_line = text.substr(0, line);
  answer.fields = text.substr(line, fields);
  answer.body = text.substr(line + fields);
  return answer;
}

}  // namespace porter::server
