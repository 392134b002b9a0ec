// See turn.hpp.
#include "server/connection/turn.hpp"

#include "machine/port_holder.hpp"
#include "server/connection/connection.hpp"
#include "server/worker.hpp"

namespace porter::server {

Turn::Turn(Connection& connection)
    : connection_(connection),
      served_(*connection.served()),
      writer_(connection.transport(), body_, connection.worker().date_line(), exchange_),
      body_(connection.transport(), connection.input(), writer_) {
  exchange_.time = std::chrono::system_clock::now();
  exchange_.begun = Clock::now();
  exchange_.client = connection.ends().client_address;
  exchange_.is_one_of_several = settings().sites.size() > 1;
  writer_.set_patience(settings().limits.body_pause);
}

Turn::~Turn() {
  connection_.transport().set_tap(nullptr);
  connection_.input().let_go();
}

void Turn::begin_recording(std::string_view head) noexcept {
  if (recording_ || !is_recorded()) return;
  recording_ = worker().shelf()->begin(exchange_, {&ends(), connection_.head_wait()});
  if (!recording_) return;
  recording_->received(head);
  connection_.transport().set_tap(recording_.get());
}

void Turn::keep_ready() noexcept {
  // One that took its time and could not be recorded has no such response.
  if (!is_recorded() || writer_.ready().pieces[0].iov_len == 0) return;
  worker().shelf()->add(exchange_, {&ends(), connection_.head_wait()}, connection_.input().held(), writer_.ready());
}

void Turn::begin_recording_ready() noexcept {
  begin_recording(connection_.input().held());
  if (recording_) recording_->sent(writer_.ready(), writer_.ready_rest());
}

std::string Turn::console_url() {
  const std::uint16_t port = worker().shared().console_port.load(std::memory_order_relaxed);
  if (port == 0 || !recording_ || !ends().is_this_computer) return {};
  return "http://localhost:" + std::to_string(port) + "/#/exchanges/" + std::to_string(recording_->number());
}

void Turn::record_facts() noexcept {
  if (recording_) recording_->note(exchange_);
}

const Ends& Turn::ends() const { return connection_.ends(); }
Worker& Turn::worker() { return connection_.worker(); }
asio::any_io_executor Turn::executor() { return connection_.transport().executor(); }
const Listener* Turn::listener() const { return connection_.listener(); }
bool Turn::is_aborted() const { return connection_.transport().is_aborted(); }

std::optional<http::HeadProblem> Turn::read_head(std::size_t length, std::vector<http::Field> space) {
  InputBuffer& input = connection_.input();
  auto parsed = http::parse_head(input.unread().substr(0, length), settings().limits.head, std::move(space));
  if (auto* const problem = std::get_if<http::HeadProblem>(&parsed)) return std::move(*problem);
  const auto& head = std::get<http::RequestHead>(parsed);
  if (head.has_no_version && input.unread().size() > length)
    return http::HeadProblem{http::HeadError::bad_request_line, std::string(head.target)};
  input.hold(length);
  request_.head = std::move(std::get<http::RequestHead>(parsed));
  exchange_.method = request_.head.method;
  exchange_.target = request_.head.target;
  exchange_.minor_version = request_.head.minor_version;
  if (snapshot().access_log) note_for_access_log();
  return std::nullopt;
}

std::string_view Turn::head_text() const { return connection_.input().held(); }

void Turn::note_for_access_log() {
  const http::RequestHead& head = request_.head;
  exchange_.fields = std::make_unique<FieldsForAccessLog>();
  exchange_.fields->host = head.field("Host").value_or("");
  exchange_.fields->referrer = head.field("Referer").value_or("");
  exchange_.fields->user_agent = head.field("User-Agent").value_or("");
}

bool Turn::is_recorded() {
  Shelf* const shelf = worker().shelf();
  return shelf != nullptr && shelf->keeps();
}

bool Turn::may_stay() { return !worker().is_stopping() && connection_.may_go_on(); }

void Turn::prepare() {
  begin_recording(connection_.input().held());
  take_head();
  if (!may_stay()) writer_.close_after();
}

void Turn::take_head() {
  if (std::exchange(is_head_taken_, true)) return;
  writer_.answers(request_.head);
  half_close_is_fine_ = !writer_.keeps_connection();
  const auto framing = http::body_framing(request_.head);
  if (const auto* const error = std::get_if<http::FramingError>(&framing)) {
    request_.framing_error = *error;
    return;
  }
  request_.framing = std::get<http::BodyFraming>(framing);
  if (!request_.has_body()) return;
  // The buffer is needed for the body, so the head moves to a place of its own.
  InputBuffer& input = connection_.input();
  head_copy_ = input.held();
  request_.head = std::get<http::RequestHead>(http::parse_head(head_copy_, settings().limits.head));
  input.let_go();
  body_.begin(request_.head, request_.framing, {settings().limits.body, settings().limits.body_pause});
}

const Site& Turn::site() const {
  static const Site kNone;
  return site_ != nullptr ? *site_ : kNone;
}

void Turn::set_site(const Site* site) {
  site_ = site;
  if (site == nullptr) return;
  exchange_.site = snapshot().site_names[number_of(*site)];
  writer_.set_site_fields(&site->response_headers);
}

const Site* Turn::site_known_for(std::string_view host) const {
  const auto& known = connection_.known_host();
  return known && known->host == host ? known->site : nullptr;
}

const std::string* Turn::known_host() const {
  const auto& known = connection_.known_host();
  return known ? &known->host : nullptr;
}

void Turn::remember_host(std::string_view host) { connection_.remember_host(host, site_); }

asio::awaitable<bool> Turn::client_leaves() {
  for (;;) {
    if (is_reading_cancelled_ || !connection_.input().is_empty()) co_return false;
    const Transport::Shows shows = co_await connection_.transport().look();
    if (is_reading_cancelled_ || shows == Transport::Shows::bytes) co_return false;
    if (shows == Transport::Shows::broken) co_return true;
    if (shows == Transport::Shows::end) co_return end_of_sending_means_gone();
    // The wait was cancelled for another's sake.
  }
}

void Turn::cancel_reading() {
  is_reading_cancelled_ = true;
  connection_.transport().cancel();
}

bool Turn::has_client_left() const {
  const Transport& transport = connection_.transport();
  return transport.has_hung_up() && (transport.is_broken() || end_of_sending_means_gone());
}

bool Turn::end_of_sending_means_gone() const {
  // A client that announced its last request may close its sending side and still wait for the response. Of one on this
  // computer it can be told whether it still has its end of the connection; of others, when something is sent to them.
  if (!half_close_is_fine_) return true;
  const Ends& of = ends();
  return of.is_this_computer &&
         !machine::is_end_held({of.client_address, of.client_port}, {of.server_address, of.server_port});
}

void Turn::abort() {
  if (source_) source_->stop();
  if (when_client_leaves_) std::exchange(when_client_leaves_, nullptr)();
}

void Turn::give_up(Lost why) noexcept {
  writer_.give_up(why);
  source_.reset();
  when_client_leaves_ = nullptr;
}

void Turn::look_after_client() {
  if (when_client_leaves_ && has_client_left()) std::exchange(when_client_leaves_, nullptr)();
}

}  // namespace porter::server
