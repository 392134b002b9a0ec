// Writing answers. See writer.hpp.
#include "server/response/writer.hpp"

#include <fmt/format.h>
#include <sys/socket.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <iterator>
#include <limits>

#include "core/files/descriptor.hpp"
#include "core/http/date.hpp"
#include "core/http/status.hpp"
#include "server/pages/frame.hpp"

namespace porter::server {
namespace {

bool has_field(const ResponseHead& head, std::string_view name) {
  return std::any_of(head.fields.begin(), head.fields.end(),
                     [&](const auto& field) { return http::same_name(field.first, name); });
}

void append_field(std::string& out, std::string_view name, std::string_view value) {
  for (const std::string_view part : {name, std::string_view(": "), value, std::string_view("\r\n")}) out += part;
}

/// Bytes of the body in what is to be sent.
std::uint64_t body_of(const Outgoing& out) {
  std::uint64_t bytes = out.file.length;
  for (std::size_t i = kBodyPiece; i < kEndPiece; ++i) bytes += out.pieces[i].iov_len;
  return bytes;
}

void append_number(std::string& out, std::uint64_t number) {
  std::array<char, 24> digits;
  out.append(digits.data(), std::to_chars(digits.data(), digits.data() + digits.size(), number).ptr);
}

}  // namespace

void add_own_fields(ResponseHead& head, PageKind kind) {
  const bool is_html = kind == PageKind::html;
  head.fields.emplace_back("Content-Type", is_html ? "text/html; charset=utf-8" : "text/plain; charset=utf-8");
  head.fields.emplace_back("X-Content-Type-Options", "nosniff");
  head.fields.emplace_back("Content-Security-Policy", is_html ? pages::kHtmlPolicy : pages::kTextPolicy);
}

std::string field_lines(const ResponseHead& head, const ResponseHeaders& of_site) {
  std::string out;
  out.reserve(256);
  append_field_lines(out, head, of_site);
  return out;
}

void append_field_lines(std::string& out, const ResponseHead& head, const ResponseHeaders& of_site) {
  for (const auto& [name, value] : head.fields) append_field(out, name, value);
  for (const auto& [name, value] : of_site)
    if (!has_field(head, name)) append_field(out, name, value);
  if (head.length && !http::has_no_body(head.status)) append_content_length(out, *head.length);
}

void append_content_length(std::string& out, std::uint64_t length) {
  out += "Content-Length: ";
  append_number(out, length);
  out += "\r\n";
}

std::string_view DateLine::now() {
  const std::time_t now = std::time(nullptr);
  if (now != second_) {
    second_ = now;
    line_ = "Date: " + http::format_date(now) + "\r\n\r\n";
  }
  return line_;
}

void Writer::answers(const http::RequestHead& head) {
  minor_version_ = head.minor_version;
  is_head_ = head.method == "HEAD";
  const std::string connection = head.joined("Connection");
  if (head.minor_version == 0 ? !http::list_has(connection, "keep-alive") : http::list_has(connection, "close"))
    keeps_ = false;
}

void Writer::begin(const ResponseHead& head) {
  static const ResponseHeaders kNone;
  has_begun_ = true;
  exchange_.status = head.status;
  const bool may_have_body = !http::has_no_body(head.status);
  drops_body_ = is_head_ || !may_have_body;
  if (may_have_body) length_ = head.length;
  is_chunked_ = may_have_body && !length_ && minor_version_ == 1;
  // HTTP/1.0 knows no chunks: there the end of the connection is the end of the page.
  if (may_have_body && !length_ && !is_chunked_) keeps_ = false;
  if (body_.is_left()) keeps_ = false;
  head_ = "HTTP/1.1 ";
  append_number(head_, static_cast<std::uint64_t>(head.status));
  head_ += ' ';
  head_ += head.reason.empty() ? http::reason_phrase(head.status) : head.reason;
  head_ += "\r\n";
  append_field_lines(head_, head, site_fields_ == nullptr ? kNone : *site_fields_);
  if (is_chunked_) head_ += "Transfer-Encoding: chunked\r\n";
  if (!keeps_) {
    head_ += "Connection: close\r\n";
  } else if (minor_version_ == 0) {
    head_ += "Connection: keep-alive\r\n";
  }
  head_ += date_.now();
}

void Writer::begin_directly() {
  has_begun_ = true;
  is_direct_ = true;
  keeps_ = false;
}

void Writer::cut_off() {
  has_failed_ = true;
  keeps_ = false;
}

Outgoing Writer::compose(const run::Pieces& body, FilePart part, Last last) {
  Outgoing out(part, head_);
  std::uint64_t room = std::numeric_limits<std::uint64_t>::max();
  if (length_) room = *length_ - passed_;
  if (drops_body_) room = 0;
  std::size_t next = kBodyPiece;
  for (std::string_view piece : body) {
    piece = piece.substr(0, static_cast<std::size_t>(std::min<std::uint64_t>(piece.size(), room)));
    out.pieces[next++] = Outgoing::piece(piece);
    room -= piece.size();
  }
  out.file.length = std::min(part.length, room);
  const std::uint64_t size = body_of(out);
  passed_ += size;
  std::string_view end;
  std::string_view chunk_head;
  if (is_chunked_ && !drops_body_) {
    if (size > 0) {
      char* const digits_end = std::to_chars(chunk_head_.data(), chunk_head_.data() + 16, size, 16).ptr;
      digits_end[0] = '\r';
      digits_end[1] = '\n';
      chunk_head = {chunk_head_.data(), digits_end + 2};
    }
    end = last == Last::no ? (size > 0 ? "\r\n" : "") : (size > 0 ? "\r\n0\r\n\r\n" : "0\r\n\r\n");
  }
  out.pieces[1] = Outgoing::piece(chunk_head);
  out.pieces[kEndPiece] = Outgoing::piece(end);
  return out;
}

void Writer::count(std::uint64_t before, const Outgoing& left) { exchange_.body_bytes += before - body_of(left); }

asio::awaitable<bool> Writer::send(Outgoing out) {
  if (has_failed_) co_return false;
  const std::uint64_t body_size = body_of(out);
  has_sent_ = has_sent_ || body_size > 0 || !head_.empty();
  Sent sent = transport_.send_now(out);
  if (sent == Sent::some) {
    const bool all = co_await transport_.send_rest(out, patience_);
    sent = all ? Sent::all : Sent::failed;
  }
  head_.clear();
  count(body_size, out);
  if (sent != Sent::all) cut_off();
  co_return sent == Sent::all;
}

asio::awaitable<bool> Writer::body(const run::Pieces& pieces, FilePart part) {
  // The status of "HTTP/1.1 200 OK", for the log.
  constexpr std::size_t kStatusAt = 9;
  const std::string_view first = pieces.empty() ? std::string_view() : *pieces.begin();
  if (is_direct_ && exchange_.status == 0 && first.size() >= kStatusAt + 3 && first.starts_with("HTTP/1."))
    std::from_chars(first.data() + kStatusAt, first.data() + kStatusAt + 3, exchange_.status);
  return send(compose(pieces, part, Last::no));
}

asio::awaitable<bool> Writer::end() {
  if (length_ && passed_ < *length_ && !drops_body_) cut_off();
  return send(compose({}, {}, Last::yes));
}

asio::awaitable<bool> Writer::page(ResponseHead head, std::string body) {
  head.length = body.size();
  begin(head);
  own_bytes_ = std::move(body);
  return send(compose(run::Pieces(own_bytes_), {}, Last::yes));
}

Sent Writer::send_ready(ReadyResponse&& response) {
  ready_ = std::move(response);
  has_begun_ = has_sent_ = true;
  exchange_.status = ready_.status;
  ready_whole_ = Outgoing(ready_.file, ready_.status_line, ready_.fields, date_.now(), ready_.body);
  ready_rest_ = ready_whole_;
  const std::uint64_t body_size = body_of(ready_whole_);
  const Sent sent = transport_.send_now(ready_rest_);
  count(body_size, ready_rest_);
  if (sent == Sent::failed) cut_off();
  if (sent == Sent::some) {
    // The Date line changes with the second, so what is left of it moves to a place of its own.
    iovec& date = ready_rest_.pieces[2];
    own_bytes_.assign(static_cast<const char*>(date.iov_base), date.iov_len);
    date = Outgoing::piece(own_bytes_);
  }
  return sent;
}

asio::awaitable<bool> Writer::finish_ready() { return send(ready_rest_); }

asio::awaitable<bool> Writer::tell_to_continue() {
  Outgoing out({}, std::string_view("HTTP/1.1 100 Continue\r\n\r\n"));
  Sent sent = transport_.send_now(out);
  if (sent == Sent::some) {
    const bool all = co_await transport_.send_rest(out, patience_);
    sent = all ? Sent::all : Sent::failed;
  }
  if (sent != Sent::all) cut_off();
  co_return sent == Sent::all;
}

void Writer::give_up(Lost why) noexcept {
  constexpr std::string_view kByError =
      "HTTP/1.1 500 Internal Server Error\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: 62\r\n"
      "Cache-Control: no-store\r\nConnection: close\r\n\r\n"
      "The server met an error of its own. The log says what it was.\n";
  constexpr std::string_view kNoMemory =
      "HTTP/1.1 503 Service Unavailable\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Length: 62\r\n"
      "Retry-After: 2\r\nCache-Control: no-store\r\nConnection: close\r\n\r\n"
      "The server has no memory left for this request. Try it again.\n";
  if (!has_sent_) {
    const bool is_short = why == Lost::for_lack_of_memory;
    transport_.send_hastily(is_short ? kNoMemory : kByError);
    exchange_.status = is_short ? 503 : 500;
  }
  cut_off();
}

std::string refuse_connection(int socket, const Finding& finding) {
  const files::Descriptor own(socket);
  const std::string body = sentence_of(finding) + "\n";
  const int status = status_of(finding.code);
  ResponseHead head{status, {}, {{"Retry-After", "2"}, {"Connection", "close"}}, body.size()};
  add_own_fields(head, PageKind::text);
  std::string text =
      fmt::format("HTTP/1.1 {} {}\r\n{}\r\n{}", status, http::reason_phrase(status), field_lines(head, {}), body);
  const ssize_t sent = ::send(socket, text.data(), text.size(), MSG_NOSIGNAL | MSG_DONTWAIT);
  ::shutdown(socket, SHUT_WR);
  text.resize(sent > 0 ? static_cast<std::size_t>(sent) : 0);
  return text;
}

}  // namespace porter::server
