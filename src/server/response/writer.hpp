// The writer: the one place from which a response leaves.
//
// It alone writes heads, frames chunks, counts bytes, sets the status in the exchange, decides whether the connection
// stays, and ends the connection where a response could not be sent whole. begin() comes first, then body() as often as
// there is something, then end(); or one of the short forms, which are all of that in one.
//
// It answers one request, on the thread of its connection.
#pragma once

#include <array>
#include <boost/asio/awaitable.hpp>
#include <chrono>
#include <cstdint>
#include <ctime>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "core/http/head.hpp"
#include "server/connection/body_reader.hpp"
#include "server/connection/transport.hpp"
#include "server/record/exchange.hpp"

namespace porter::server {

/// The head of a response before it is written out.
struct ResponseHead {
  int status = 200;
  std::string_view reason{};  ///< Empty: the usual phrase.
  std::vector<std::pair<std::string_view, std::string>> fields{};
  /// Content-Length; nullopt: the response is framed in chunks, or by the end of the connection. Of no meaning where
  /// the status allows no body.
  std::optional<std::uint64_t> length{};
};

enum class PageKind { html, text };
/// Adds to `head` what every page of our own says of itself: its type, that no other is to be guessed, and that it
/// loads nothing, runs nothing and stands in no frame.
void add_own_fields(ResponseHead& head, PageKind kind);

/// Field lines that a site adds to its answers, as name and value.
using ResponseHeaders = std::vector<std::pair<std::string, std::string>>;

/// The field lines of `head`, those of the site that it does not have itself, and Content-Length where it is known.
std::string field_lines(const ResponseHead& head, const ResponseHeaders& of_site);
void append_field_lines(std::string& out, const ResponseHead& head, const ResponseHeaders& of_site);
void append_content_length(std::string& out, std::uint64_t length);

/// The place of the body among the pieces that are sent, so that its bytes can be counted: this one, of a response that
/// lies ready, and as many as run::Pieces has at most.
inline constexpr std::size_t kBodyPiece = 3;
inline constexpr std::size_t kEndPiece = kBodyPiece + run::Pieces::kMost;  ///< What follows the body.

/// A response that is whole and lies ready, as the cache keeps it. The views last until the response has been sent.
struct ReadyResponse {
  std::shared_ptr<const void> keeper;  ///< Keeps alive what the views and the file belong to.
  int status = 200;
  std::string_view status_line;
  std::string_view fields;  ///< As field_lines() makes them.
  std::string_view body;
  FilePart file;  ///< Sent behind `body`.
};

/// The Date line (RFC 9110, section 6.6.1) with the empty line behind it: the end of every head. For use by one thread.
class DateLine {
 public:
  /// As it is now; the view lasts until the next call.
  std::string_view now();

 private:
  std::time_t second_ = 0;
  std::string line_;
};

/// Why a request is given up.
enum class Lost { for_lack_of_memory, by_error };

class Writer {
 public:
  /// Writes to `transport`, of the request whose body `body` reads, and notes in `exchange` what it sends.
  Writer(Transport& transport, const BodyReader& body, DateLine& date, Exchange& exchange)
      : transport_(transport), body_(body), date_(date), exchange_(exchange) {}
  Writer(const Writer&) = delete;
  Writer& operator=(const Writer&) = delete;

  // What the request and its site decide; to be set before begin().

  /// How long a client may take nothing.
  void set_patience(std::chrono::seconds patience) { patience_ = patience; }
  /// Of the request: whether its response has no body (HEAD), what it knows of framing, and whether it wants the
  /// connection to stay (RFC 9112, section 9.3).
  void answers(const http::RequestHead& head);
  /// The site's own fields, which must outlive the response; null: none.
  void set_site_fields(const ResponseHeaders* fields) { site_fields_ = fields; }
  /// After this response the connection is closed.
  void close_after() { keeps_ = false; }

  /// Begins the response; its head leaves with the first of its body, or at the end.
  void begin(const ResponseHead& head);
  /// Begins a response whose head is written by a program that speaks to the client directly (RFC 3875, section 5). The
  /// connection ends with it.
  void begin_directly();
  /// Sends the next part of the body: `pieces`, then `part`. What goes beyond the announced length is dropped, as is
  /// all of it where none may be sent. False: the client is gone, does not take it, or the file has become shorter;
  /// whatever follows is not sent either. The bytes must last until then. A part of a file requires that the length was
  /// announced.
  asio::awaitable<bool> body(const run::Pieces& pieces, FilePart part);
  asio::awaitable<bool> body(std::string_view bytes, FilePart part = {}) { return body(run::Pieces(bytes), part); }
  /// Ends the response. One that is shorter than announced is cut off, since nothing else tells the client. False: it
  /// was not sent whole.
  asio::awaitable<bool> end();
  /// Gives up a response that cannot be finished: the client sees that it is cut off.
  void cut_off();

  /// A response that is whole in memory; its length is that of `body`.
  asio::awaitable<bool> page(ResponseHead head, std::string body);
  /// A response that lies ready: sends what the socket takes at once. `some`: finish_ready() sends the rest.
  Sent send_ready(ReadyResponse&& response);
  /// What send_ready() was to send, until the response has gone, and what is left of it.
  const Outgoing& ready() const { return ready_whole_; }
  const Outgoing& ready_rest() const { return ready_rest_; }
  asio::awaitable<bool> finish_ready();
  /// "100 Continue" (RFC 9110, section 15.2.1). False: the client is gone.
  asio::awaitable<bool> tell_to_continue();
  /// Gives the request up, for which no memory is needed: 503 or 500 if nothing was sent yet. The connection ends.
  void give_up(Lost why) noexcept;

  /// Whether the response's head has been begun.
  bool has_begun() const { return has_begun_; }
  /// Whether the connection stays; only for certain once the response has ended.
  bool keeps_connection() const { return keeps_; }

 private:
  enum class Last { no, yes };
  /// What is to be sent of the head, of `body` and `part`, and of the framing around them.
  Outgoing compose(const run::Pieces& body, FilePart part, Last last);
  /// Sends all of `out`.
  asio::awaitable<bool> send(Outgoing out);
  /// Counts what of the body has gone out since `before` was what was left of it.
  void count(std::uint64_t before, const Outgoing& left);

  Transport& transport_;
  const BodyReader& body_;
  DateLine& date_;
  Exchange& exchange_;
  std::chrono::seconds patience_{30};
  const ResponseHeaders* site_fields_ = nullptr;
  int minor_version_ = 1;
  bool is_head_ = false;  ///< The request's method is HEAD.
  bool keeps_ = true;
  bool has_begun_ = false;
  bool has_failed_ = false;
  bool has_sent_ = false;  ///< Something has gone out.
  bool is_chunked_ = false;
  bool is_direct_ = false;
  bool drops_body_ = false;              ///< None may be sent.
  std::optional<std::uint64_t> length_;  ///< As announced.
  std::uint64_t passed_ = 0;             ///< Bytes of the body that were given, up to length_.
  std::string head_;                     ///< Until it has been sent.
  std::array<char, 20> chunk_head_;      ///< The length of a chunk with its line end.
  std::string own_bytes_;                ///< A page, or what is left of a Date line, until it has been sent.
  ReadyResponse ready_;
  Outgoing ready_whole_;
  Outgoing ready_rest_;
};

/// Tells the client of `socket`, whose request will not be read, what is the matter, as far as that can be done without
/// waiting, and closes it. What was sent.
std::string refuse_connection(int socket, const Finding& finding);

}  // namespace porter::server
