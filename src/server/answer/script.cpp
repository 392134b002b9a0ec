// Running a script for a request: its input from the request's body, its answer head, its page as it is written.
#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <cstdlib>
#include <exception>
#include <thread>

#include "core/findings/resources.hpp"
#include "core/http/status.hpp"
#include "core/script/judge.hpp"
#include "core/script/meta_variables.hpp"
#include "run/script_run.hpp"
#include "server/answer/answer.hpp"

namespace porter::server {
namespace {

constexpr int kMostLocalRedirects = 10;
constexpr std::size_t kShownErrorLines = 12;

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

/// A body of unknown length, read to its end: a script is told the length before it starts (RFC 3875, section 4.1.2).
struct Spooled {
  BodyRead result = BodyRead::end;
  files::Descriptor file;
  std::uint64_t length = 0;
  int error = 0;  ///< errno, where the body could not be kept.
};

std::string temporary_folder() {
  const char* const folder = std::getenv("TMPDIR");
  return folder == nullptr || *folder == '\0' ? "/tmp" : folder;
}

/// A file in `folder` that has no name, so that nothing of it is left whatever happens; not open: errno tells why.
files::Descriptor nameless_file(const std::string& folder) {
  files::Descriptor file(::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600));
  if (file.is_open() || (errno != EOPNOTSUPP && errno != EISDIR)) return file;
  // Not every file system has such files.
  std::string pattern = folder + "/upright-porter-XXXXXX";
  file.reset(::mkostemp(pattern.data(), O_CLOEXEC));
  if (file.is_open()) ::unlink(pattern.c_str());
  return file;
}

Finding spool_finding(int error) {
  if (files::is_lack_of_resources({error})) return out_of_resources("keep the request's body", error);
  return {Code::spool_failed, {{"folder", temporary_folder()}, {"reason", files::describe({error})}}};
}

/// errno if it fails.
int write_all(int file, std::string_view data) {
  while (!data.empty()) {
    const ssize_t written = ::write(file, data.data(), data.size());
    if (written < 0 && errno == EINTR) continue;
    if (written <= 0) return written < 0 ? errno : ENOSPC;
    data.remove_prefix(static_cast<std::size_t>(written));
  }
  return 0;
}

asio::awaitable<Spooled> spool_body(Connection& connection, const Request& request) {
  Spooled spooled;
  spooled.file = nameless_file(temporary_folder());
  if (!spooled.file.is_open()) spooled.error = errno;
  std::string data;
  while (spooled.error == 0) {
    data.clear();
    spooled.result = co_await connection.read_body(request, data);
    spooled.error = write_all(spooled.file.get(), data);
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
               std::vector<std::string> trail, WayToScript way)
      : connection_(connection),
        request_(request),
        script_(std::move(script)),
        trail_(std::move(trail)),
        way_(std::move(way)),
        feeding_done_(connection.executor()) {}

  asio::awaitable<void> answer();
  /// Ends the run and all that belongs to it, after answer() has thrown.
  asio::awaitable<void> give_up();

 private:
  /// What the script reads.
  struct Input {
    run::InputKind kind = run::InputKind::nothing;
    files::Descriptor file;
    std::optional<std::uint64_t> length;
  };

  /// Prepares the request's body. False: it could not be read, and that has been answered.
  asio::awaitable<bool> prepare_input(Input& input);
  /// Waits for a turn and starts the script. False: it could not be started, and that has been answered.
  asio::awaitable<bool> start(Input input);
  run::ScriptOrder make_order(Input input) const;
  bool input_has_to_be_fed() const {
    return request_.framing.kind == http::BodyFraming::Kind::length && !is_body_for_another();
  }
  /// The request's body has been offered to another script, or its problem is what this one tells of.
  bool is_body_for_another() const { return way_.redirects > 0 || way_.problem_status > 0; }
  /// Waits for a turn at the gate. Null: there is none, or the client has left; in the first case that has been
  /// answered.
  asio::awaitable<run::Gate::Ticket> wait_for_turn();
  void begin_feeding();
  /// Hands the request's body to the script, and waits for the client to leave then.
  asio::awaitable<void> feed();
  asio::awaitable<void> stop_feeding();
  asio::awaitable<void> relay();
  asio::awaitable<void> relay_directly();
  bool sends_no_body() const;
  bool was_cut_off() const;
  /// The head of the answer; `page_is_whole`: gathered() is all of it, so its length is known.
  AnswerHead make_head(bool page_is_whole);
  /// Sends `head` as it is, and `data` as the next part of the page.
  asio::awaitable<bool> send_piece(std::string_view head, std::string_view data);
  asio::awaitable<bool> finish_page();
  asio::awaitable<void> explain(std::optional<Finding> finding);
  asio::awaitable<void> redirect_locally();
  void note(const Finding& finding);
  asio::awaitable<void> problem(Finding finding, std::vector<std::string> details = {}) {
    if (way_.problem_status > 0) {
      co_await answer_with_our_page(connection_, &request_, std::move(finding), std::move(trail_), std::move(details));
    } else {
      co_await answer_problem(connection_, &request_, std::move(finding), std::move(trail_), std::move(details));
    }
  }

  Connection& connection_;
  const Request& request_;
  sites::ScriptFound script_;
  run::Runner runner_;
  std::vector<std::string> trail_;
  WayToScript way_;
  std::shared_ptr<run::ScriptRun> run_;
  enum class Feeding { not_begun, begun, over } feeding_ = Feeding::not_begun;
  run::Event feeding_done_;
  BodyRead fed_ = BodyRead::end;
  bool chunked_ = false;
  std::uint64_t sent_ = 0;
};

asio::awaitable<void> ScriptAnswer::answer() {
  runner_ = connection_.runners().of(script_);
  std::string& by = connection_.answered().by;
  by = (way_.problem_status > 0 ? by + "; page by " : "") + runner_.name + " " + script_.path;
  Input input;
  bool ready = co_await prepare_input(input);
  if (ready) ready = co_await start(std::move(input));
  if (!ready) co_return;
  if (input_has_to_be_fed()) {
    begin_feeding();
  } else {
    // Whether the client has gone is worth knowing of a script that takes its time.
    run_->run().when_long([weak = weak_from_this()] {
      if (const auto self = weak.lock()) self->begin_feeding();
    });
  }
  if (run::speaks_directly(script_)) {
    co_await relay_directly();
    co_await stop_feeding();
    co_return;
  }
  const bool has_head = co_await run_->read_head();
  if (!has_head) {
    co_await stop_feeding();
    auto finding = co_await run_->judge();
    co_await explain(std::move(finding));
  } else if (run_->head().is_local_redirect()) {
    run_->stop();
    co_await stop_feeding();
    co_await redirect_locally();
  } else {
    co_await relay();
    co_await stop_feeding();
  }
}

asio::awaitable<bool> ScriptAnswer::prepare_input(Input& input) {
  // A local redirect is answered as if it were a GET (RFC 3875, section 6.2.2): the body belongs to the first script.
  if (is_body_for_another()) co_return true;
  if (request_.framing.kind == http::BodyFraming::Kind::length) {
    input.length = request_.framing.length;
    if (request_.framing.length > 0) input.kind = run::InputKind::pipe;
  }
  if (request_.framing.kind != http::BodyFraming::Kind::chunked) co_return true;
  Spooled spooled = co_await spool_body(connection_, request_);
  if (spooled.result == BodyRead::end && spooled.error == 0) {
    input = {run::InputKind::file, std::move(spooled.file), spooled.length};
    co_return true;
  }
  connection_.close_after_answer();
  if (spooled.error != 0) {
    co_await problem(spool_finding(spooled.error));
  } else if (auto finding = body_finding(spooled.result, connection_.settings())) {
    co_await problem(std::move(*finding));
  }
  co_return false;
}

run::ScriptOrder ScriptAnswer::make_order(Input input) const {
  const Settings& settings = connection_.settings();
  const Peer& peer = connection_.peer();
  script::Peer ends{peer.client_address, peer.client_port, peer.server_port, request_.host.name};
  if (ends.server_host.empty()) ends.server_host = peer.server_address;
  if (ends.server_host.find(':') != std::string::npos) ends.server_host = "[" + ends.server_host + "]";
  run::ScriptOrder order{.script = script_, .runner = runner_};
  order.environment = script::meta_variables(script_, connection_.site(), request_.head, request_.target, ends,
                                             input.length, connection_.worker().shared().passed_on);
  if (way_.problem_status > 0) {
    order.environment.add("REDIRECT_STATUS", std::to_string(way_.problem_status));
    order.environment.keep_last_of_each_name();
  }
  order.document_root = connection_.site().document_root;
  order.method = request_.head.method;
  order.query = request_.target.query;
  order.input = input.kind;
  order.input_file = std::move(input.file);
  order.input_length = input.length.value_or(0);
  order.limits = settings.limits;
  return order;
}

asio::awaitable<bool> ScriptAnswer::start(Input input) {
  run::Gate::Ticket ticket = connection_.snapshot().gate->try_enter();
  if (!ticket) ticket = co_await wait_for_turn();
  if (!ticket || connection_.is_aborted()) co_return false;
  run::ScriptOrder order = make_order(std::move(input));
  order.ticket = std::move(ticket);
  auto started = run::ScriptRun::start(connection_.executor(), connection_.worker().runs(), std::move(order));
  if (auto* const finding = std::get_if<Finding>(&started)) {
    co_await problem(std::move(*finding));
    co_return false;
  }
  run_ = std::get<std::shared_ptr<run::ScriptRun>>(started);
  connection_.set_run(run_->shared_run());
  co_return true;
}

asio::awaitable<run::Gate::Ticket> ScriptAnswer::wait_for_turn() {
  run::Gate& gate = *connection_.snapshot().gate;
  const std::shared_ptr<run::Gate::Place> place = gate.line_up(connection_.executor());
  if (!place) {
    Finding finding{Code::too_many_runs, {}};
    finding.facts.emplace_back("running", std::to_string(gate.most_running()));
    finding.facts.emplace_back("waiting", std::to_string(gate.most_waiting()));
    co_await problem(std::move(finding));
    co_return nullptr;
  }
  connection_.when_client_leaves([place] { place->give_up(); });
  run::Gate::Ticket ticket = co_await place->turn();
  connection_.when_client_leaves(nullptr);
  // A script that nobody waits for any more is not started.
  if (ticket && !connection_.has_client_left()) co_return ticket;
  connection_.close_after_answer();
  connection_.answered().by += "; the client left before its turn came";
  co_return nullptr;
}

void ScriptAnswer::begin_feeding() {
  if (feeding_ != Feeding::not_begun) return;
  asio::co_spawn(
      connection_.executor(), [self = shared_from_this()] { return self->feed(); },
      [self = shared_from_this()](const std::exception_ptr& failure) {
        if (failure) self->run_->stop();
        self->feeding_done_.set();
      });
  feeding_ = Feeding::begun;  // Only now is there anybody who will say that it is over.
}

asio::awaitable<void> ScriptAnswer::feed() {
  const auto self = shared_from_this();
  if (input_has_to_be_fed()) {
    std::string data;
    for (;;) {
      data.clear();
      run_->pause_clock();
      fed_ = co_await connection_.read_body(request_, data);
      run_->resume_clock();
      // A script need not read its input; it goes on all the same.
      if (fed_ != BodyRead::data || !co_await run_->run().write(data)) break;
    }
    if (connection_.is_reading_cancelled()) fed_ = BodyRead::data;
    // A part of a body must not pass for the whole: the script is stopped before it sees the end.
    if (fed_ != BodyRead::data && fed_ != BodyRead::end) run_->stop();
    run_->run().close_input();
  }
  if (fed_ == BodyRead::data || fed_ == BodyRead::end) {
    if (co_await connection_.client_leaves()) fed_ = BodyRead::gone;
  }
  if (fed_ == BodyRead::gone) run_->stop();
}

asio::awaitable<void> ScriptAnswer::give_up() {
  if (!run_) co_return;
  run_->stop();
  co_await stop_feeding();
}

asio::awaitable<void> ScriptAnswer::stop_feeding() {
  if (feeding_ == Feeding::not_begun) feeding_ = Feeding::over;
  if (feeding_ == Feeding::over) co_return;
  run_->run().close_input();
  connection_.cancel_reading();
  co_await feeding_done_.wait();
  feeding_ = Feeding::over;
  connection_.resume_reading();
  if (fed_ == BodyRead::gone) connection_.close_after_answer();
}

bool ScriptAnswer::sends_no_body() const { return request_.is_head() || http::has_no_body(run_->head().status); }

asio::awaitable<bool> ScriptAnswer::send_piece(std::string_view head, std::string_view data) {
  const auto announced = run_->head().content_length;
  if (announced && sent_ + data.size() > *announced) data = data.substr(0, *announced - sent_);
  if (sends_no_body()) data = {};
  sent_ += data.size();
  connection_.answered().body_bytes += data.size();
  std::string start(head);
  const bool is_chunk = chunked_ && !data.empty();
  if (is_chunk) start += fmt::format("{:x}\r\n", data.size());
  const bool sent = co_await connection_.send(start, data, is_chunk ? "\r\n" : "");
  co_return sent;
}

AnswerHead ScriptAnswer::make_head(bool page_is_whole) {
  const script::AnswerHead& script_head = run_->head();
  AnswerHead head;
  head.status = script_head.status;
  head.reason = script_head.reason;
  for (const auto& [name, value] : script_head.fields) head.fields.emplace_back(name, value);
  if (way_.problem_status > 0 && !script_head.has_status && !script_head.location) head.status = way_.problem_status;
  for (auto& [name, value] : way_.problem_fields)
    if (!script_head.has_field(name)) head.fields.emplace_back(name, std::move(value));
  connection_.answered().status = head.status;
  if (http::has_no_body(head.status)) return head;
  head.length = script_head.content_length;
  if (!head.length && page_is_whole) head.length = run_->gathered().size();
  if (!head.length) {
    chunked_ = request_.head.minor_version == 1;
    head.chunked = chunked_;
    // HTTP/1.0 knows no chunks: there the end of the connection is the end of the page.
    if (!chunked_) connection_.close_after_answer();
  }
  return head;
}

asio::awaitable<void> ScriptAnswer::relay() {
  if (http::has_no_body(run_->head().status)) run_->expect_no_body();
  bool is_judged = false;
  if (!sends_no_body()) is_judged = co_await run_->gather_page();
  if (is_judged) {
    auto finding = co_await run_->judge();
    // A script that fails between its head and its page, say, has nothing to show; the reason says more than an empty
    // page.
    if (finding && run_->has_no_page_for(*finding)) {
      co_await explain(std::move(finding));
      co_return;
    }
    if (finding) note(*finding);
  } else if (!run_->gathered().empty() && run_->head().lacks_content_type()) {
    run_->stop();
    co_await explain(script::content_type_missing(run_->report()));
    co_return;
  }
  const std::string head = write_head(connection_, make_head(is_judged && !was_cut_off()), request_.head.minor_version);
  std::string_view piece;
  if (!run_->gathered().empty()) piece = co_await run_->read_page();
  bool sent = co_await send_piece(head, piece);
  while (sent && !is_judged) {
    piece = co_await run_->read_page();
    if (piece.empty()) break;
    if (!sends_no_body()) sent = co_await send_piece({}, piece);
  }
  if (!sent) {
    run_->stop();
    connection_.close_after_answer();
    co_return;
  }
  if (!is_judged) {
    const auto finding = co_await run_->judge_soon();
    if (finding) note(*finding);
  }
  if (!co_await finish_page()) connection_.close_after_answer();
}

// A program that has been killed has not finished its page. Only a connection cut short tells that to the client.
bool ScriptAnswer::was_cut_off() const { return run_->report().signal != 0 || run_->run().was_too_slow(); }

asio::awaitable<bool> ScriptAnswer::finish_page() {
  if (was_cut_off()) co_return false;
  const auto announced = run_->head().content_length;
  if (announced && sent_ < *announced && !sends_no_body()) co_return false;
  bool sent = true;
  if (chunked_ && !request_.is_head()) sent = co_await connection_.send("0\r\n\r\n");
  co_return sent;
}

asio::awaitable<void> ScriptAnswer::relay_directly() {
  connection_.close_after_answer();
  bool sent = true;
  while (sent) {
    const std::string_view piece = co_await run_->read_page();
    if (piece.empty()) break;
    // The status of "HTTP/1.1 200 OK", for the log.
    if (connection_.answered().status == 0 && piece.size() > 12 && piece.starts_with("HTTP/1."))
      connection_.answered().status = std::atoi(std::string(piece.substr(9, 3)).c_str());
    connection_.answered().body_bytes += piece.size();
    sent = co_await connection_.send(piece);
  }
  if (!sent) {
    run_->stop();
  } else if (connection_.answered().body_bytes == 0) {
    auto finding = co_await run_->judge();
    co_await explain(std::move(finding));
  }
}

void ScriptAnswer::note(const Finding& finding) {
  connection_.answered().by += fmt::format("; {}: {}", code_name(finding.code), sentence_of(finding));
}

asio::awaitable<void> ScriptAnswer::redirect_locally() {
  const std::string location = *run_->head().location;
  if (way_.redirects >= kMostLocalRedirects) {
    Finding finding{Code::script_too_many_redirects, {}};
    finding.facts.emplace_back("count", std::to_string(way_.redirects));
    finding.facts.emplace_back("location", location);
    co_await problem(std::move(finding));
    co_return;
  }
  trail_.push_back(script_.path + " answered with a local redirect to " + location + ".");
  Request next = request_;
  auto target = http::parse_target(location, "GET");
  if (const auto* const error = std::get_if<http::TargetError>(&target)) {
    Finding finding{Code::malformed_target, {}};
    finding.facts.emplace_back("problem", std::string(http::describe(*error)));
    co_await problem(std::move(finding));
    co_return;
  }
  next.target = std::move(std::get<http::Target>(target));
  if (!next.is_head()) next.head.method = "GET";
  auto resolution = sites::resolve(connection_.settings(), connection_.site(), {next.head.method, next.target});
  resolution.trail.insert(resolution.trail.begin(), trail_.begin(), trail_.end());
  co_await answer_outcome(connection_, next, std::move(resolution), way_.redirects + 1);
}

asio::awaitable<void> ScriptAnswer::explain(std::optional<Finding> finding) {
  if (fed_ == BodyRead::gone) co_return;
  if (auto body = body_finding(fed_, connection_.settings())) {
    connection_.close_after_answer();
    co_await problem(std::move(*body));
    co_return;
  }
  if (connection_.worker().is_stopping() && run_->report().signal != 0) {
    finding = Finding{Code::server_stopping, {}};
    finding->facts.emplace_back("file", script_.path);
  }
  if (finding) co_await problem(std::move(*finding), script::last_lines(run_->report().error_text, kShownErrorLines));
}

}  // namespace

asio::awaitable<void> answer_script(Connection& connection, const Request& request, sites::ScriptFound found,
                                    std::vector<std::string> trail, WayToScript way) {
  const auto script =
      std::make_shared<ScriptAnswer>(connection, request, std::move(found), std::move(trail), std::move(way));
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
