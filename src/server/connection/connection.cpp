// A connection's life: reading heads, giving turns, closing. See connection.hpp.
#include "server/connection/connection.hpp"

#include <algorithm>
#include <boost/system/system_error.hpp>
#include <cerrno>
#include <iterator>
#include <new>
#include <system_error>
#include <utility>

#include "core/http/findings.hpp"
#include "server/worker.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kHeadBuffer = 64 * 1024;
constexpr std::size_t kShownOfBadHead = 200;

/// What a request was given up for, in words that last as long as `failure`; nullopt: something was short, memory as a
/// rule, of which this needs none.
std::optional<std::string_view> reason_of(const std::exception_ptr& failure) noexcept {
  constexpr int kShort[] = {ENOMEM, EMFILE, ENFILE, EAGAIN, ENOBUFS, ENOSPC};
  const auto is_short = [&](int error) {
    return std::find(std::begin(kShort), std::end(kShort), error) != std::end(kShort);
  };
  try {
    std::rethrow_exception(failure);
  } catch (const std::bad_alloc&) {
    return std::nullopt;
  } catch (const boost::system::system_error& error) {
    return is_short(error.code().value()) ? std::nullopt : std::optional<std::string_view>(error.what());
  } catch (const std::system_error& error) {
    return is_short(error.code().value()) ? std::nullopt : std::optional<std::string_view>(error.what());
  } catch (const std::exception& error) {
    return error.what();
  } catch (...) {
    return "an unknown exception";
  }
}

Finding head_too_slow(const Settings& settings) {
  return {Code::head_too_slow, {{"seconds", std::to_string(settings.limits.head_time.count())}}};
}

}  // namespace

Connection::Connection(Worker& worker, Transport::Socket socket, Endpoint endpoint)
    : worker_(worker),
      transport_(std::move(socket)),
      endpoint_(std::move(endpoint)),
      ends_(transport_.ends()),
      served_(worker.served()) {
  listener_ = served_->snapshot->find(endpoint_);
  // Between the acceptance and now the address may have been given up.
  keeps_ = listener_ != nullptr || endpoint_.ip.empty();
  worker_.add(*this);
}

Connection::~Connection() { worker_.remove(*this); }

void Connection::remember_host(std::string_view host, const Site* site) {
  if (known_host_ && known_host_->host == host && known_host_->site == site) return;
  known_host_ = {std::string(host), site};
}

void Connection::take_settings() {
  if (served_ == worker_.served()) return;
  known_host_.reset();
  const Listener* const listener = worker_.served()->snapshot->find(endpoint_);
  if (listener == nullptr && !endpoint_.ip.empty()) {
    // The address is no longer listened on. What was asked already is still answered, as before, and no more.
    keeps_ = false;
    return;
  }
  served_ = worker_.served();
  listener_ = listener;
}

asio::awaitable<void> Connection::serve() {
  const auto self = shared_from_this();
  while (keeps_ && !transport_.is_aborted() && !worker_.is_stopping()) {
    const HeadRead read = co_await read_head();
    if (read == HeadRead::closed) break;
    // A connection on which nothing was ever asked is closed without a word: browsers open some to have them ready.
    if (read == HeadRead::expired && input_.is_empty()) break;
    std::exception_ptr failure;
    try {
      take_settings();
      turn_ = std::make_unique<Turn>(*this);
      const bool is_done = read == HeadRead::whole && answer_at_once();
      if (!is_done) co_await answer(read);
    } catch (...) {
      failure = std::current_exception();
    }
    if (failure) give_up_turn(failure);
    if (turn_) keeps_ = keeps_ && turn_->writer().keeps_connection();
    turn_.reset();
  }
  if (!transport_.is_aborted()) co_await transport_.close_gently();
  transport_.close();
}

asio::awaitable<Connection::HeadRead> Connection::read_head() {
  std::size_t scanned = 0;
  head_begun_.reset();
  head_wait_ = {};
  const Limits& limits = served_->snapshot->settings.limits;
  const auto start_clock = [&] { transport_.set_receive_deadline(coarse_now() + limits.head_time); };
  if (!input_.is_empty()) {
    start_clock();
  } else {
    input_.shrink();
    transport_.set_receive_deadline(coarse_now() + limits.idle_time);
  }
  // One byte more than a head may have, so that it shows when one is too large.
  const std::size_t most = std::max(kHeadBuffer, limits.head.head + 1);
  for (;;) {
    if (const auto length = http::head_length(input_.unread(), scanned)) {
      head_length_ = *length;
      if (head_begun_) head_wait_ = Clock::now() - *head_begun_;
      transport_.set_receive_deadline(Clock::time_point::max());
      co_return HeadRead::whole;
    }
    scanned = input_.unread().size();
    if (scanned > 0) {
      head_problem_ = http::reject_early(input_.unread(), limits.head);
      if (head_problem_) co_return HeadRead::rejected;
    }
    const bool was_empty = input_.is_empty();
    // Most heads come in one piece, and have not been waited for.
    if (!was_empty && !head_begun_) head_begun_ = Clock::now();
    const auto [error, got] = co_await transport_.receive(input_.space(most));
    if (got == 0) co_return transport_.has_expired() ? HeadRead::expired : HeadRead::closed;
    input_.add(got);
    transport_.received(got);
    if (was_empty) start_clock();
  }
}

bool Connection::answer_at_once() {
  head_problem_ = turn_->read_head(head_length_, std::move(field_space_));
  if (head_problem_) return false;
  if (!turn_->may_stay()) return false;
  auto ready = worker_.responder().find_ready(*turn_);
  if (!ready) return false;
  is_unfinished_ = send(std::move(*ready)) == Sent::some;
  if (is_unfinished_) return false;
  conclude();
  return true;
}

Sent Connection::send(ReadyResponse&& response) {
  const Sent sent = turn_->writer().send_ready(std::move(response));
  if (sent == Sent::some) turn_->begin_recording_ready();
  return sent;
}

asio::awaitable<void> Connection::answer(HeadRead read) {
  if (head_problem_) {
    const Finding finding = http::finding_of(*head_problem_, turn_->settings().limits.head);
    head_problem_.reset();
    co_await refuse(finding);
  } else if (read != HeadRead::whole) {
    co_await refuse(head_too_slow(turn_->settings()));
  } else if (std::exchange(is_unfinished_, false)) {
    co_await turn_->writer().finish_ready();
    conclude();
  } else {
    turn_->prepare();
    co_await worker_.responder().answer(*turn_);
    conclude();
    if (turn_->writer().keeps_connection() && !turn_->body().is_done()) {
      const bool is_finished = co_await turn_->body().finish();
      if (!is_finished) turn_->writer().close_after();
    }
  }
}

asio::awaitable<void> Connection::refuse(Finding finding) {
  turn_->writer().close_after();
  turn_->begin_recording(input_.unread());
  const std::string_view line = input_.unread().substr(0, input_.unread().find_first_of("\r\n"));
  turn_->exchange().method = "-";
  turn_->exchange().target = line.empty() ? "-" : line.substr(0, kShownOfBadHead);
  co_await worker_.responder().refuse(*turn_, std::move(finding));
  record();
}

void Connection::conclude() {
  field_space_ = turn_->take_field_space();
  record();
}

void Connection::record() {
  if (!worker_.responder().is_recorded()) return;
  Exchange& exchange = turn_->exchange();
  exchange.duration = Clock::now() - exchange.begun;
  exchange.received = transport_.received_bytes() - std::exchange(counted_received_, transport_.received_bytes());
  exchange.sent = transport_.sent_bytes() - std::exchange(counted_sent_, transport_.sent_bytes());
  if (turn_->is_recording()) {
    turn_->record_facts();
  } else {
    turn_->keep_ready();
  }
  worker_.record(std::move(exchange), turn_->snapshot().access_log);
}

void Connection::give_up_turn(const std::exception_ptr& failure) noexcept {
  keeps_ = false;
  is_unfinished_ = false;
  head_problem_.reset();
  const auto reason = reason_of(failure);
  try {
    if (turn_) turn_->give_up(reason ? Lost::by_error : Lost::for_lack_of_memory);
    input_.clear();
    if (!reason) return worker_.note_lack_of_memory();
    const std::string action = turn_ ? turn_->exchange().method + " " + turn_->exchange().target : "a request";
    worker_.note(
        {Code::internal_error, {{"program", "uporterd"}, {"action", action}, {"reason", std::string(*reason)}}});
  } catch (const std::exception&) {
    // The next one that is told of will do.
  }
}

void Connection::close_if_idle() {
  if (turn_ || !input_.is_empty()) return;
  keeps_ = false;
  transport_.cancel();
}

void Connection::abort() {
  keeps_ = false;
  if (turn_) turn_->abort();
  transport_.abort();
}

void Connection::check_deadlines(Clock::time_point now) {
  if (turn_) turn_->look_after_client();
  transport_.check_deadlines(now);
}

}  // namespace porter::server
