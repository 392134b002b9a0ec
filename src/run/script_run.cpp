// Running a script from its start to the judgement. See script_run.hpp.
#include "run/script_run.hpp"

#include <algorithm>
#include <new>

#include "core/findings/resources.hpp"
#include "core/http/status.hpp"

namespace porter::run {
namespace {

constexpr std::size_t kPiece = 64 * 1024;
/// A script may fail between its head and its page, and an interpreter takes a moment to say so. Holding back a head
/// alone costs nobody anything: there is nothing to show yet.
constexpr std::chrono::milliseconds kPageAfterHead{150};
/// What of an announced length is missing is awaited for less, since here a part of the page is there.
constexpr std::chrono::milliseconds kRestOfPage{20};
/// Most scripts end right after they have written a short page. Awaiting that makes one packet of the response, with
/// its length, where there would be three; and it is too short a time to be noticed where the page goes on.
constexpr std::chrono::microseconds kEndAfterPage{300};
/// A script that fails behind a part of its page has its interpreter flush that first and complain then. So one that
/// computes is given this much processor time for it, whatever else the machine has to do meanwhile; one that waits
/// has meant what it has sent.
constexpr std::chrono::microseconds kWorkAfterPage{500};
constexpr std::chrono::milliseconds kMostWorkAfterPage{300};
constexpr std::chrono::milliseconds kLookAgain{1};
constexpr std::chrono::milliseconds kEndAfterOutput{50};
/// What has complained mostly ends with that, and a page in the place of its error would be half of one. On a machine
/// with much to do, an interpreter takes long to clear up.
constexpr std::chrono::milliseconds kEndAfterError{500};

}  // namespace

std::variant<std::shared_ptr<ScriptRun>, Finding> ScriptRun::start(const asio::any_io_executor& executor, RunSet& set,
                                                                   ScriptOrder order) {
  auto started = Run::start(executor, set, std::move(order.run));
  if (const auto* const error = std::get_if<StartError>(&started)) {
    const std::string& path = order.script.path;
    if (error->step == StartError::Step::resources) return out_of_resources("start " + path, error->number);
    return script::judge_start(path, command_by_hand(order.script), error->number, start_of(path));
  }
  const auto run = std::move(std::get<std::shared_ptr<Run>>(started));
  try {
    return std::make_shared<ScriptRun>(run, order);
  } catch (const std::bad_alloc&) {
    run->stop();  // It has begun, and nobody would give it an end.
    throw;
  }
}

ScriptRun::ScriptRun(std::shared_ptr<ScriptSource> source, const ScriptOrder& order)
    : source_(std::move(source)),
      script_(order.script),
      document_root_(order.document_root),
      limits_(order.limits),
      is_direct_(order.speaks_directly),
      is_explained_(order.is_explained) {
  report_.seconds_allowed = limits_.first_byte.count();
  report_.address_space = address_limit(order.runner, limits_);
  report_.processor_time = limits_.processor_time;
  report_.input_length = order.input_length;
  report_.body_was_expected = order.expects_body;
  source_->set_deadline(Clock::now() + limits_.first_byte);
}

asio::awaitable<ScriptRun::Verdict> ScriptRun::verdict() {
  if (is_direct_) {
    const std::span<char> space = buffer();
    const std::size_t got = co_await source_->read(space);
    pending_.assign(space.data(), got);
    note_read(got);
    if (got > 0) source_->set_deadline(Clock::now() + limits_.total_time);
    if (got > 0) co_return Direct{};
  }
  bool has_head = false;
  if (!is_direct_) has_head = co_await read_head();
  if (!has_head) {
    auto finding = co_await judge();
    co_return NoPage{std::move(finding)};
  }
  if (head().is_local_redirect()) {
    stop();
    co_return LocalRedirect{*head().location};
  }
  if (http::has_no_body(head().status)) report_.body_was_expected = false;
  bool has_ended = false;
  if (report_.body_was_expected) has_ended = co_await gather_page();
  if (has_ended) {
    auto finding = co_await judge();
    if (finding && has_no_page_for(*finding)) co_return NoPage{std::move(finding)};
    co_return Page{true, std::move(finding)};
  }
  if (!pending_.empty() && head().lacks_content_type()) {
    stop();
    complete_report();
    co_return NoPage{script::content_type_missing(report_)};
  }
  co_return Page{false, std::nullopt};
}

std::span<char> ScriptRun::buffer() {
  if (large_buffer_) return {large_buffer_.get(), kPiece};
  return small_buffer_;
}

void ScriptRun::note_read(std::size_t got) {
  if (!large_buffer_ && got == small_buffer_.size()) large_buffer_ = std::make_unique_for_overwrite<char[]>(kPiece);
}

asio::awaitable<bool> ScriptRun::read_head() {
  bool is_no_head = false;
  for (;;) {
    const std::span<char> space = buffer();
    const std::size_t got = co_await source_->read(space);
    if (got == 0) break;
    note_read(got);
    // What comes after the first part of a page without a head is read, so that the script can end, and dropped.
    if (pending_.size() < limits_.response_head) pending_.append(space.data(), got);
    if (is_no_head) continue;
    // However much has come at once, a head that is too large is not taken.
    if (const auto length = script::script_head_length(pending_); length && *length <= limits_.response_head) {
      auto parsed = script::parse_script_head(std::string_view(pending_).substr(0, *length));
      if (auto* const good = std::get_if<script::ScriptHead>(&parsed)) {
        report_.head = std::move(*good);
        pending_.erase(0, *length);
        report_.body_written = pending_.size();
        report_.seconds_allowed = limits_.total_time.count();
        source_->set_deadline(Clock::now() + limits_.total_time);
        co_return true;
      }
      report_.head_problem = std::get<script::ScriptHeadProblem>(parsed);
      is_no_head = true;
    } else if (script::is_surely_no_head(pending_)) {
      is_no_head = true;
    } else if (pending_.size() >= limits_.response_head) {
      report_.head_limit = limits_.response_head;
      source_->stop();
      break;
    }
  }
  report_.output_start = pending_;
  co_return false;
}

bool ScriptRun::may_still_complain(Clock::time_point begun) {
  if (!is_explained_ || Clock::now() > begun + kMostWorkAfterPage) return false;
  const auto work = source_->work_so_far();
  if (!work) return false;
  if (!work_at_page_) work_at_page_ = *work;
  return *work - *work_at_page_ < kWorkAfterPage;
}

asio::awaitable<bool> ScriptRun::gather_page() {
  // A page of unknown type is not begun, so its head waits until it is known whether there is one.
  const Clock::duration patience =
      head().lacks_content_type() ? Clock::duration(limits_.total_time) : Clock::duration(kPageAfterHead);
  const auto begun = Clock::now();
  Clock::duration extra{0};
  // What was announced is awaited a little longer, since a page that is too short is better not begun either.
  const auto wait_for_more = [&]() -> Clock::duration {
    if (pending_.empty()) return patience;
    const bool is_short = head().content_length && pending_.size() < *head().content_length;
    return extra + (is_short ? Clock::duration(kRestOfPage) : Clock::duration(kEndAfterPage));
  };
  // What seems to fail is not begun before it is known why.
  bool seems_to_fail = is_explained_ && head().status >= 500;
  bool has_closed_output = false;
  // Where hardly any room is left, more is on its way.
  while (!has_closed_output && pending_.size() + source_->at_hand() + small_buffer_.size() < kPiece) {
    const std::span<char> space = buffer();
    const Clock::duration waited =
        seems_to_fail ? std::max<Clock::duration>(patience, kEndAfterError) : wait_for_more();
    const auto got = co_await source_->read_by(space, begun + waited);
    if (!got && !seems_to_fail && is_explained_ && source_->has_written_errors()) {
      seems_to_fail = true;
      continue;
    }
    if (!got && !pending_.empty() && may_still_complain(begun)) {
      extra += kLookAgain;
      continue;
    }
    if (!got) co_return false;
    note_read(*got);
    pending_.append(space.data(), *got);
    report_.body_written += *got;
    has_closed_output = *got == 0;
  }
  if (!has_closed_output) co_return false;
  const bool has_complained = is_explained_ && source_->has_written_errors();
  const bool has_ended = co_await source_->ended_by(Clock::now() + (has_complained ? kEndAfterError : kEndAfterOutput));
  co_return has_ended;
}

asio::awaitable<Pieces> ScriptRun::read_page() {
  Pieces pieces;
  if (!pending_.empty()) {
    handed_.swap(pending_);
    pending_.clear();
    pieces.add(handed_);
    if (source_->at_hand() == 0) co_return pieces;
  }
  const std::size_t gathered = pieces.size();
  const std::span<char> space = buffer();
  co_await source_->read_pieces(space, pieces);
  const std::size_t got = pieces.size() - gathered;
  if (got == 0) co_return pieces;
  report_.body_written += got;
  note_read(got);
  source_->set_deadline(Clock::now() + limits_.total_time);
  co_return pieces;
}

asio::awaitable<std::optional<Finding>> ScriptRun::judge() {
  end_ = co_await source_->end();
  report_.exit_status = end_->exit_status;
  report_.signal = end_->signal;
  report_.was_too_slow = source_->was_too_slow();
  report_.error_text = source_->error_text();
  report_.failure = source_->failure();
  // As the program that env is told to start is called.
  if (report_.exit_status == 126 || report_.exit_status == 127) report_.start = start_of(script_.path);
  auto finding = script::judge_run(report_);
  if (!finding) co_return finding;
  complete_report();
  co_return script::judge_run(report_);
}

asio::awaitable<std::optional<Finding>> ScriptRun::judge_soon() {
  // The end of the output and the end of the process come together, unless the script means to go on without output.
  std::optional<Finding> finding;
  const bool has_ended = co_await source_->ended_by(Clock::now() + kEndAfterOutput);
  if (has_ended) finding = co_await judge();
  co_return finding;
}

bool ScriptRun::has_no_page_for(const Finding& finding) const {
  // Its page, if there is one, cannot be shown; a script that fails between its head and its page has nothing to show,
  // and the reason says more than an empty page.
  if (finding.code == Code::no_content_type || finding.code == Code::body_shorter) return true;
  const bool failed = script::has_failed(report_) || report_.head->status == 500;
  if (!failed) return false;
  // After a part of a page an error counts that is told where it is, or that nothing can have been meant by. A program
  // whose last command failed may have written all that it meant to.
  return report_.body_written == 0 || (is_explained_ && finding.code != Code::script_failed);
}

void ScriptRun::complete_report() {
  report_.path = script_.path;
  report_.document_root = document_root_;
  report_.command = command_by_hand(script_);
}

void ScriptRun::leave() {
  report_.was_stopped = true;
  source_->set_deadline(Clock::now() + limits_.total_time);
  // It keeps nobody else from beginning.
  source_->response_has_begun(false);
  source_->client_left();
}

asio::awaitable<void> ScriptRun::end_for_nobody() {
  end_ = co_await source_->end();
  report_.error_text = source_->error_text();
}

void ScriptRun::stop() {
  report_.was_stopped = true;
  source_->stop();
}

}  // namespace porter::run
