// Running a script from its start to the judgement. See script_run.hpp.
#include "run/script_run.hpp"

#include <fcntl.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <ctime>
#include <new>

#include "core/files/beneath.hpp"
#include "core/files/paths.hpp"
#include "core/files/state.hpp"
#include "core/script/interpreters.hpp"
#include "core/script/meta_variables.hpp"
#include "core/text/text.hpp"

namespace porter::run {
namespace {

constexpr std::size_t kPiece = 64 * 1024;
/// A script may fail between its head and its page, and an interpreter takes a moment to say so. Holding back a head
/// alone costs nobody anything: there is nothing to show yet.
constexpr std::chrono::milliseconds kPageAfterHead{150};
/// What of an announced length is missing is awaited for less, since here a part of the page is there.
constexpr std::chrono::milliseconds kRestOfPage{20};
/// Most scripts end right after they have written a short page. Awaiting that makes one packet of the answer, with its
/// length, where there would be three; and it is too short a time to be noticed where the page goes on.
constexpr std::chrono::microseconds kEndAfterPage{300};
constexpr std::chrono::milliseconds kEndAfterOutput{50};
/// Between the signal that tells of the processor time used up and the one that cannot be caught.
constexpr std::size_t kGraceOfProcessorTime = 2;

std::string start_of(const std::string& path) {
  const files::Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
  std::array<char, 512> buffer{};
  const ssize_t got = file.is_open() ? ::read(file.get(), buffer.data(), buffer.size()) : 0;
  return {buffer.data(), static_cast<std::size_t>(std::max<ssize_t>(got, 0))};
}

std::size_t address_limit(const Runner& runner, const Limits& limits) {
  return runner.reserves_memory ? 0 : limits.address_space;
}

std::vector<ResourceLimit> resource_limits(const Runner& runner, const Limits& limits) {
  std::vector<ResourceLimit> out = {
      {RLIMIT_CPU, {limits.processor_time, limits.processor_time + kGraceOfProcessorTime}},
      {RLIMIT_NOFILE, {limits.open_files, limits.open_files}},
      {RLIMIT_CORE, {0, 0}}};
  if (const std::size_t bytes = address_limit(runner, limits); bytes > 0) out.push_back({RLIMIT_AS, {bytes, bytes}});
  return out;
}

}  // namespace

std::string command_by_hand(const sites::ScriptFound& script) {
  const std::string name(files::base_name(script.path));
  std::string out = "cd " + text::shell_word(files::folder_of(script.path)) + " && ";
  if (script.interpreter.empty()) return out + text::shell_word("./" + name);
  out += files::base_name(script.interpreter);
  for (const std::string& argument : script.rule->arguments) out += " " + text::shell_word(argument);
  return out + " " + text::shell_word(name);
}

Runner runner_of(const sites::ScriptFound& script) {
  Runner runner;
  runner.name = script.interpreter.empty() ? script::read_first_line(start_of(script.path)).meant()
                                           : std::string(files::base_name(script.interpreter));
  if (runner.name.empty()) runner.name = "program";
  const auto* const known = script::interpreter_called(script::usual_interpreters(), runner.name);
  runner.reserves_memory = known != nullptr && known->reserves_memory;
  return runner;
}

const Runner& Runners::of(const sites::ScriptFound& script) {
  constexpr std::size_t kMostKnown = 1000;
  if (known_.size() >= kMostKnown) known_.clear();
  Known& known = known_[script.path];
  if (!files::same_state(known.info, script.info)) {
    known = {{}, runner_of(script)};
    if (files::is_settled(script.info, std::time(nullptr))) known.info = script.info;
  }
  return known.runner;
}

bool speaks_directly(const sites::ScriptFound& script) { return files::base_name(script.path).starts_with("nph-"); }

std::variant<std::shared_ptr<ScriptRun>, Finding> ScriptRun::start(const asio::any_io_executor& executor, RunSet& set,
                                                                   ScriptOrder order) {
  if (order.script.rule != nullptr)
    for (const auto& [name, value] : order.script.rule->limits) set_limit(order.limits, name, value);
  RunOrder run_order;
  run_order.environment = std::move(order.environment);
  run_order.folder = files::folder_of(order.script.path);
  run_order.input = order.input;
  run_order.input_file = std::move(order.input_file);
  run_order.error_stream_limit = order.limits.error_stream;
  run_order.limits = resource_limits(order.runner, order.limits);
  run_order.ticket = std::move(order.ticket);
  if (order.script.interpreter.empty()) {
    run_order.program = order.script.path;
    run_order.arguments = script::query_arguments(order.query);
    run_order.arguments.insert(run_order.arguments.begin(), order.script.path);
  } else {
    run_order.program = order.script.interpreter;
    run_order.arguments = order.script.rule->arguments;
    run_order.arguments.insert(run_order.arguments.begin(), order.script.interpreter);
    run_order.arguments.push_back(order.script.path);
  }
  auto started = Run::start(executor, set, std::move(run_order));
  if (const auto* const error = std::get_if<StartError>(&started)) {
    if (error->step == StartError::Step::resources)
      return Finding{Code::server_resources,
                     {{"action", "start " + order.script.path}, {"reason", files::describe({error->number})}}};
    return script::judge_start(order.script.path, command_by_hand(order.script), error->number,
                               start_of(order.script.path));
  }
  const auto run = std::move(std::get<std::shared_ptr<Run>>(started));
  try {
    return std::shared_ptr<ScriptRun>(new ScriptRun(executor, run, order));
  } catch (const std::bad_alloc&) {
    run->terminate();  // It has begun, and nobody would give it an end.
    throw;
  }
}

ScriptRun::ScriptRun(const asio::any_io_executor& executor, std::shared_ptr<Run> run, const ScriptOrder& order)
    : executor_(executor), run_(std::move(run)), limits_(order.limits) {
  report_.path = order.script.path;
  report_.document_root = order.document_root;
  report_.command = command_by_hand(order.script);
  report_.seconds_allowed = limits_.first_byte.count();
  report_.address_space = address_limit(order.runner, limits_);
  report_.processor_time = limits_.processor_time;
  report_.input_length = order.input_length;
  report_.body_was_expected = order.method != "HEAD";
  run_->set_deadline(Clock::now() + limits_.first_byte);
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
    const std::size_t got = co_await run_->read(space);
    if (got == 0) break;
    note_read(got);
    // What comes after the first part of a page without a head is read, so that the script can end, and dropped.
    if (pending_.size() < limits_.answer_head) pending_.append(space.data(), got);
    if (is_no_head) continue;
    if (const auto length = script::answer_head_length(pending_)) {
      auto parsed = script::parse_answer_head(std::string_view(pending_).substr(0, *length));
      if (auto* const good = std::get_if<script::AnswerHead>(&parsed)) {
        report_.head = std::move(*good);
        pending_.erase(0, *length);
        report_.body_written = pending_.size();
        report_.seconds_allowed = limits_.total_time.count();
        run_->set_deadline(Clock::now() + limits_.total_time);
        co_return true;
      }
      report_.head_problem = std::get<script::AnswerHeadProblem>(parsed);
      is_no_head = true;
    } else if (script::is_surely_no_head(pending_)) {
      is_no_head = true;
    } else if (pending_.size() >= limits_.answer_head) {
      report_.head_limit = limits_.answer_head;
      run_->terminate();
      break;
    }
  }
  report_.output_start = pending_;
  co_return false;
}

asio::awaitable<bool> ScriptRun::gather_page() {
  // A page of unknown type is not begun, so its head waits until it is known whether there is one.
  const Clock::duration patience =
      head().lacks_content_type() ? Clock::duration(limits_.total_time) : Clock::duration(kPageAfterHead);
  const auto begun = Clock::now();
  // What was announced is awaited a little longer, since a page that is too short is better not begun either.
  const auto wait_for_more = [&]() -> Clock::duration {
    if (pending_.empty()) return patience;
    const bool is_short = head().content_length && pending_.size() < *head().content_length;
    return is_short ? Clock::duration(kRestOfPage) : Clock::duration(kEndAfterPage);
  };
  bool has_closed_output = false;
  while (!has_closed_output && pending_.size() < kPiece) {
    const std::span<char> space = buffer();
    const auto got = co_await run_->read_by(space, begun + wait_for_more());
    if (!got) co_return false;
    note_read(*got);
    pending_.append(space.data(), *got);
    report_.body_written += *got;
    has_closed_output = *got == 0;
  }
  if (!has_closed_output) co_return false;
  const bool has_ended = co_await run_->ended_by(Clock::now() + kEndAfterOutput);
  co_return has_ended;
}

asio::awaitable<std::string_view> ScriptRun::read_page() {
  if (!pending_.empty()) {
    handed_.swap(pending_);
    pending_.clear();
    co_return handed_;
  }
  const std::span<char> space = buffer();
  const std::size_t got = co_await run_->read(space);
  report_.body_written += got;
  note_read(got);
  if (got > 0) run_->set_deadline(Clock::now() + limits_.total_time);
  co_return std::string_view(space.data(), got);
}

void ScriptRun::take_end(const RunEnd& end) {
  end_ = end;
  report_.exit_status = end.exit_status;
  report_.signal = end.signal;
  report_.was_too_slow = run_->was_too_slow();
  report_.error_text = run_->error_text();
}

asio::awaitable<std::optional<Finding>> ScriptRun::judge() {
  const RunEnd end = co_await run_->end();
  take_end(end);
  co_return script::judge_run(report_);
}

asio::awaitable<std::optional<Finding>> ScriptRun::judge_soon() {
  // The end of the output and the end of the process come together, unless the script means to go on without output.
  std::optional<Finding> finding;
  const bool has_ended = co_await run_->ended_by(Clock::now() + kEndAfterOutput);
  if (has_ended) finding = co_await judge();
  co_return finding;
}

bool ScriptRun::has_no_page_for(const Finding& finding) const {
  if (!report_.body_was_expected) return false;
  if (finding.code == Code::no_content_type || finding.code == Code::body_shorter) return true;
  const bool failed = report_.exit_status != 0 || report_.signal != 0 || report_.head->status == 500;
  return report_.body_written == 0 && failed;
}

void ScriptRun::stop() {
  report_.was_stopped = true;
  run_->terminate();
}

}  // namespace porter::run
