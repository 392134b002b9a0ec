// Running a script for a request: its input from the request's body, its answer head, its page as it is written.
#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <array>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <cstdlib>

#include "core/http/status.hpp"
#include "core/script/answer_head.hpp"
#include "core/script/judge.hpp"
#include "core/script/meta_variables.hpp"
#include "core/text/text.hpp"
#include "server/answer.hpp"

namespace porter::server {
namespace {

constexpr int kMostLocalRedirects = 10;
constexpr std::size_t kOutputPiece = 32 * 1024;
constexpr std::size_t kShownErrorLines = 12;
constexpr std::chrono::minutes kMostSilence{5};
constexpr std::chrono::milliseconds kEndAfterOutput{50};

std::string folder_of(const std::string& path) { return path.substr(0, path.rfind('/')); }
std::string base_name(const std::string& path) { return path.substr(path.rfind('/') + 1); }

std::string start_of(const std::string& path) {
  const files::Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
  std::array<char, 512> buffer{};
  const ssize_t got = file.is_open() ? ::read(file.get(), buffer.data(), buffer.size()) : 0;
  return {buffer.data(), static_cast<std::size_t>(std::max<ssize_t>(got, 0))};
}

/// What a person would type to run the script by hand.
std::string by_hand(const sites::ScriptFound& script) {
  const std::string name = script.interpreter.empty() ? "./" + base_name(script.path) : base_name(script.path);
  const std::string program = script.interpreter.empty() ? "" : base_name(script.interpreter) + " ";
  return "cd " + text::shell_word(folder_of(script.path)) + " && " + program + text::shell_word(name);
}

/// What the log says has answered: the interpreter with the script's path.
std::string answered_by(const sites::ScriptFound& script) {
  std::string program = script.interpreter.empty() ? script::read_first_line(start_of(script.path)).meant()
                                                   : base_name(script.interpreter);
  if (program.empty()) program = "program";
  return program + " " + script.path;
}

/// The finding for a body that could not be read; nullopt if the client is just gone.
std::optional<Finding> body_finding(BodyRead read, const Settings& settings) {
  switch (read) {
    case BodyRead::malformed:
      return Finding{Code::malformed_body, {{"problem", "its chunked coding is broken"}}};
    case BodyRead::too_large:
      return Finding{Code::body_too_large, {{"limit", std::to_string(settings.limits.body)}}};
    case BodyRead::too_slow:
      return Finding{Code::body_too_slow, {{"seconds", std::to_string(settings.limits.body_pause.count())}}};
    default:
      return std::nullopt;
  }
}

Finding out_of_resources(std::string action, std::string reason) {
  return {Code::server_resources, {{"action", std::move(action)}, {"reason", std::move(reason)}}};
}

/// A body of unknown length, read to its end: a script is told the length before it starts (RFC 3875, section 4.1.2).
struct Spooled {
  BodyRead result = BodyRead::end;
  files::Descriptor file;
  std::uint64_t length = 0;
};

bool write_all(int file, std::string_view data) {
  while (!data.empty()) {
    const ssize_t written = ::write(file, data.data(), data.size());
    if (written < 0 && errno == EINTR) continue;
    if (written <= 0) return false;
    data.remove_prefix(static_cast<std::size_t>(written));
  }
  return true;
}

asio::awaitable<Spooled> spool_body(Connection& connection, const Request& request) {
  Spooled spooled;
  const char* const folder = std::getenv("TMPDIR");
  spooled.file.reset(::open(folder == nullptr ? "/tmp" : folder, O_TMPFILE | O_RDWR | O_CLOEXEC, 0600));
  std::string data;
  for (;;) {
    data.clear();
    spooled.result = co_await connection.read_body(request, data);
    if (!write_all(spooled.file.get(), data)) {
      spooled.file.reset();
      co_return spooled;
    }
    spooled.length += data.size();
    if (spooled.result != BodyRead::data) break;
  }
  ::lseek(spooled.file.get(), 0, SEEK_SET);
  co_return spooled;
}

/// One script answering one request.
class ScriptAnswer : public std::enable_shared_from_this<ScriptAnswer> {
 public:
  ScriptAnswer(Connection& connection, const Request& request, sites::ScriptFound script,
               std::vector<std::string> trail, int redirects)
      : connection_(connection),
        request_(request),
        script_(std::move(script)),
        trail_(std::move(trail)),
        redirects_(redirects),
        feeding_done_(connection.executor()) {}

  asio::awaitable<void> answer();

 private:
  enum class Head { good, none };

  run::RunOrder make_order(std::optional<std::uint64_t> body_length);
  asio::awaitable<void> feed();
  asio::awaitable<void> stop_feeding();
  asio::awaitable<Head> read_answer_head();
  asio::awaitable<void> relay();
  asio::awaitable<bool> ended_badly();
  void take_end(const run::RunEnd& end);
  asio::awaitable<bool> send_piece(std::string_view data);
  asio::awaitable<void> explain_failure();
  asio::awaitable<void> redirect_locally();
  asio::awaitable<void> problem(Finding finding, std::vector<std::string> details = {}) {
    co_await answer_problem(connection_, &request_, std::move(finding), std::move(trail_), std::move(details));
  }

  Connection& connection_;
  const Request& request_;
  sites::ScriptFound script_;
  std::vector<std::string> trail_;
  int redirects_;
  std::shared_ptr<run::Run> run_;
  run::Event feeding_done_;
  BodyRead fed_ = BodyRead::end;
  std::string output_;  ///< What was read of the answer and not yet sent.
  script::RunReport report_;
  script::AnswerHead head_;
  bool chunked_ = false;
  std::uint64_t sent_ = 0;
};

run::RunOrder ScriptAnswer::make_order(std::optional<std::uint64_t> body_length) {
  const Settings& settings = connection_.settings();
  const Peer& peer = connection_.peer();
  script::Peer ends{peer.client_address, peer.client_port, peer.server_port, request_.host.name};
  if (ends.server_name.empty()) ends.server_name = peer.server_address;
  if (ends.server_name.find(':') != std::string::npos) ends.server_name = "[" + ends.server_name + "]";
  run::RunOrder order;
  order.environment = script::meta_variables(script_, settings.site, request_.head, request_.target, ends, body_length,
                                             connection_.worker().shared().passed_on);
  order.folder = folder_of(script_.path);
  order.error_stream_limit = settings.limits.error_stream;
  if (script_.interpreter.empty()) {
    order.program = script_.path;
    order.arguments = script::query_arguments(request_.target.query);
    order.arguments.insert(order.arguments.begin(), script_.path);
  } else {
    order.program = script_.interpreter;
    order.arguments = {script_.interpreter, script_.path};
  }
  return order;
}

asio::awaitable<void> ScriptAnswer::answer() {
  connection_.answered().by = answered_by(script_);
  report_.path = script_.path;
  report_.command = by_hand(script_);
  std::optional<std::uint64_t> body_length;
  Spooled spooled;
  auto input = run::InputKind::nothing;
  if (request_.framing.kind == http::BodyFraming::Kind::chunked && redirects_ == 0) {
    spooled = co_await spool_body(connection_, request_);
    if (spooled.result != BodyRead::end || !spooled.file.is_open()) {
      connection_.close_after_answer();
      if (!spooled.file.is_open()) {
        co_await problem(out_of_resources("keep the request's body", "no room in the temporary folder"));
      } else if (auto finding = body_finding(spooled.result, connection_.settings())) {
        co_await problem(std::move(*finding));
      }
      co_return;
    }
    body_length = spooled.length;
    input = run::InputKind::file;
  } else if (request_.framing.kind == http::BodyFraming::Kind::length && redirects_ == 0) {
    body_length = request_.framing.length;
    if (*body_length > 0) input = run::InputKind::pipe;
  }
  run::RunOrder order = make_order(body_length);
  order.input = input;
  order.input_file = std::move(spooled.file);
  auto started = run::Run::start(connection_.executor(), connection_.worker().runs(), std::move(order));
  if (const auto* const error = std::get_if<run::StartError>(&started)) {
    if (error->step == run::StartError::Step::resources) {
      co_await problem(out_of_resources("start " + script_.path, files::describe({error->number})));
    } else {
      co_await problem(script::judge_start(script_.path, report_.command, error->number, start_of(script_.path)));
    }
    co_return;
  }
  run_ = std::get<std::shared_ptr<run::Run>>(started);
  connection_.set_run(run_);
  const auto& limits = connection_.settings().limits;
  run_->set_deadline(std::chrono::steady_clock::now() + limits.first_byte);
  report_.seconds_allowed = limits.first_byte.count();
  asio::co_spawn(
      connection_.executor(), [self = shared_from_this()] { return self->feed(); }, asio::detached);

  const Head head = co_await read_answer_head();
  if (head == Head::good && head_.is_local_redirect()) {
    run_->terminate();
    co_await stop_feeding();
    co_await redirect_locally();
  } else if (head == Head::good) {
    co_await relay();
    co_await stop_feeding();
  } else {
    co_await stop_feeding();
    co_await explain_failure();
  }
}

asio::awaitable<void> ScriptAnswer::feed() {
  const auto self = shared_from_this();
  if (request_.framing.kind == http::BodyFraming::Kind::length && redirects_ == 0) {
    std::string data;
    for (;;) {
      data.clear();
      fed_ = co_await connection_.read_body(request_, data);
      // A script need not read its input; it goes on all the same.
      if (fed_ != BodyRead::data || !co_await run_->write(data)) break;
    }
    run_->close_input();
    if (connection_.is_reading_cancelled()) fed_ = BodyRead::data;
  }
  if (fed_ == BodyRead::data || fed_ == BodyRead::end) {
    if (co_await connection_.client_leaves()) fed_ = BodyRead::gone;
  }
  if (fed_ == BodyRead::gone || fed_ == BodyRead::too_slow) run_->terminate();
  feeding_done_.set();
}

asio::awaitable<void> ScriptAnswer::stop_feeding() {
  run_->close_input();
  connection_.cancel_reading();
  co_await feeding_done_.wait();
  connection_.resume_reading();
  if (fed_ == BodyRead::gone) connection_.close_after_answer();
}

asio::awaitable<ScriptAnswer::Head> ScriptAnswer::read_answer_head() {
  const std::size_t limit = connection_.settings().limits.answer_head;
  std::array<char, 4096> buffer;
  bool is_no_head = false;
  for (;;) {
    const std::size_t got = co_await run_->read(buffer);
    if (got == 0) break;
    // What comes after the first part of a page without a head is read, so that the script can end, and dropped.
    if (output_.size() < limit) output_.append(buffer.data(), got);
    if (is_no_head) continue;
    if (const auto length = script::answer_head_length(output_)) {
      auto parsed = script::parse_answer_head(std::string_view(output_).substr(0, *length));
      if (auto* const good = std::get_if<script::AnswerHead>(&parsed)) {
        head_ = std::move(*good);
        output_.erase(0, *length);
        report_.has_head = true;
        co_return Head::good;
      }
      report_.head_problem = std::get<script::AnswerHeadProblem>(parsed);
      is_no_head = true;
    } else if (script::is_surely_no_head(output_)) {
      is_no_head = true;
    } else if (output_.size() >= limit) {
      report_.head_limit = limit;
      run_->terminate();
      break;
    }
  }
  co_return Head::none;
}

asio::awaitable<bool> ScriptAnswer::send_piece(std::string_view data) {
  if (data.empty() || request_.is_head() || http::has_no_body(head_.status)) co_return true;
  if (head_.content_length && sent_ + data.size() > *head_.content_length)
    data = data.substr(0, static_cast<std::size_t>(*head_.content_length - sent_));
  sent_ += data.size();
  bool sent = false;
  if (chunked_) {
    sent = co_await connection_.send(fmt::format("{:x}\r\n", data.size()), std::string(data) + "\r\n");
  } else {
    sent = co_await connection_.send(data);
  }
  if (sent) connection_.answered().body_bytes += data.size();
  co_return sent;
}

asio::awaitable<void> ScriptAnswer::relay() {
  AnswerHead head;
  head.status = head_.status;
  head.reason = head_.reason;
  for (const auto& [name, value] : head_.fields) head.fields.emplace_back(name, value);
  head.length = head_.content_length;
  const bool bodiless = http::has_no_body(head_.status);
  if (bodiless) head.length.reset();
  if (!bodiless && !head.length) {
    chunked_ = request_.head.minor_version == 1;
    head.chunked = chunked_;
    // HTTP/1.0 knows no chunks: there the end of the connection is the end of the page.
    if (!chunked_) connection_.close_after_answer();
  }
  connection_.answered().status = head_.status;
  run_->set_deadline(std::chrono::steady_clock::now() + kMostSilence);
  bool sent = co_await connection_.send(write_head(connection_, head, request_.head.minor_version));
  sent = sent && co_await send_piece(output_);
  std::string buffer(kOutputPiece, '\0');
  while (sent) {
    const std::size_t got = co_await run_->read(buffer);
    if (got == 0) break;
    run_->set_deadline(std::chrono::steady_clock::now() + kMostSilence);
    sent = co_await send_piece(std::string_view(buffer).substr(0, got));
  }
  if (!sent) {
    run_->terminate();
    connection_.close_after_answer();
    co_return;
  }
  // A program that has been killed has not finished its page. Only a connection cut short tells that to the client.
  const bool cut_short = co_await ended_badly();
  const bool too_short = head_.content_length && sent_ < *head_.content_length && !request_.is_head() && !bodiless;
  if (cut_short || too_short) {
    connection_.close_after_answer();
  } else if (chunked_ && !request_.is_head()) {
    if (!co_await connection_.send("0\r\n\r\n")) connection_.close_after_answer();
  }
}

asio::awaitable<bool> ScriptAnswer::ended_badly() {
  // The end of the output and the end of the process come together, unless the script means to go on without output.
  if (!co_await run_->ended_by(std::chrono::steady_clock::now() + kEndAfterOutput)) co_return false;
  take_end(co_await run_->end());
  if (const auto finding = script::judge_run(report_))
    connection_.answered().by += fmt::format("; {}: {}", code_name(finding->code), sentence_of(*finding));
  co_return report_.signal != 0 || report_.was_too_slow;
}

void ScriptAnswer::take_end(const run::RunEnd& end) {
  report_.exit_status = end.exit_status;
  report_.signal = end.signal;
  report_.was_too_slow = run_->was_too_slow();
  report_.error_text = run_->error_text();
}

asio::awaitable<void> ScriptAnswer::redirect_locally() {
  if (redirects_ >= kMostLocalRedirects) {
    Finding finding{Code::script_too_many_redirects, {}};
    finding.facts.emplace_back("count", std::to_string(redirects_));
    finding.facts.emplace_back("location", *head_.location);
    co_await problem(std::move(finding));
    co_return;
  }
  trail_.push_back(script_.path + " answered with a local redirect to " + *head_.location + ".");
  Request next = request_;
  auto target = http::parse_target(*head_.location, "GET");
  if (const auto* const error = std::get_if<http::TargetError>(&target)) {
    Finding finding{Code::malformed_target, {}};
    finding.facts.emplace_back("problem", std::string(http::describe(*error)));
    co_await problem(std::move(finding));
    co_return;
  }
  next.target = std::move(std::get<http::Target>(target));
  if (!next.is_head()) next.head.method = "GET";
  const Settings& settings = connection_.settings();
  auto resolution = sites::resolve(settings, settings.site, {next.head.method, next.target});
  resolution.trail.insert(resolution.trail.begin(), trail_.begin(), trail_.end());
  co_await answer_outcome(connection_, next, std::move(resolution), redirects_ + 1);
}

asio::awaitable<void> ScriptAnswer::explain_failure() {
  take_end(co_await run_->end());
  report_.output_start = output_;
  if (fed_ == BodyRead::gone) co_return;
  if (auto finding = body_finding(fed_, connection_.settings())) {
    connection_.close_after_answer();
    co_await problem(std::move(*finding));
    co_return;
  }
  if (connection_.worker().is_stopping() && report_.signal != 0) {
    Finding finding{Code::server_stopping, {}};
    finding.facts.emplace_back("file", script_.path);
    co_await problem(std::move(finding));
    co_return;
  }
  if (auto finding = script::judge_run(report_))
    co_await problem(std::move(*finding), script::last_lines(report_.error_text, kShownErrorLines));
}

}  // namespace

asio::awaitable<void> answer_script(Connection& connection, const Request& request, sites::ScriptFound found,
                                    std::vector<std::string> trail, int redirects) {
  const auto script =
      std::make_shared<ScriptAnswer>(connection, request, std::move(found), std::move(trail), redirects);
  co_await script->answer();
}

}  // namespace porter::server
