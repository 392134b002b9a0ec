// See console_responder.hpp.
#include "server/console/console_responder.hpp"

#include <algorithm>

#include "core/exchange/message.hpp"
#include "core/http/findings.hpp"
#include "core/http/head.hpp"
#include "server/connection/turn.hpp"
#include "server/console/console_files.hpp"

namespace porter::server {
namespace {

/// The page runs and loads nothing but its own files, and stands in no frame. Frames in it hold recorded pages, which
/// come from nowhere: they inherit this, and are sandboxed besides.
constexpr std::string_view kPolicy =
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data: blob:; connect-src 'self'; "
    "frame-src 'none'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'; require-trusted-types-for "
    "'script'; "
    "trusted-types recorded-page";
/// What calls answer is data, whatever it says of itself.
constexpr std::string_view kDataPolicy = "default-src 'none'; sandbox; frame-ancestors 'none'";
constexpr std::string_view kNewKey = "/v1/console/key";

/// Compares in a time that tells nothing of where they differ.
bool is_same_secret(std::string_view given, std::string_view secret) {
  if (secret.empty() || given.size() != secret.size()) return false;
  unsigned difference = 0;
  for (std::size_t i = 0; i < secret.size(); ++i)
    difference |= static_cast<unsigned char>(given[i]) ^ static_cast<unsigned char>(secret[i]);
  return difference == 0;
}

/// The key in "Authorization: Bearer KEY" (RFC 6750, section 2.1); empty if there is none.
std::string_view key_in(const http::RequestHead& head) {
  constexpr std::string_view kScheme = "bearer ";
  const std::string_view value = head.field("Authorization").value_or("");
  if (value.size() < kScheme.size() || !http::same_name(value.substr(0, kScheme.size()), kScheme)) return {};
  return http::trim(value.substr(kScheme.size()));
}

bool takes_gzip(const http::RequestHead& head) {
  return head.field("Accept-Encoding").value_or("").find("gzip") != std::string_view::npos;
}

}  // namespace

std::vector<std::pair<std::string_view, std::string>> ConsoleResponder::more_fields() const {
  return {{"X-Content-Type-Options", "nosniff"}, {"Content-Security-Policy", std::string(kDataPolicy)}};
}

std::optional<Finding> ConsoleResponder::guard(Turn& turn, std::string_view path) const {
  const http::RequestHead& head = turn.request().head;
  if (auto foreign = foreign_host(head, port_, "/")) return foreign;
  const std::string written(head.field("Host").value_or(""));
  const std::string origin(head.field("Origin").value_or(""));
  if (!origin.empty() && origin != "http://" + written)
    return Finding{Code::console_origin_foreign, {{"origin", origin}}};
  if (!path.starts_with("/v1/")) return std::nullopt;
  const std::string_view key = key_in(head);
  if (is_same_secret(key, key_) || (path == kNewKey && is_same_secret(key, key_before_))) return std::nullopt;
  return Finding{Code::console_key_missing, {}};
}

asio::awaitable<void> ConsoleResponder::answer(Turn& turn) {
  const http::RequestHead& head = turn.request().head;
  const std::string path(head.target.substr(0, head.target.find('?')));
  if (const auto finding = guard(turn, path)) {
    turn.writer().close_after();
    Reply reply = refused(*finding);
    co_await send(turn, std::move(reply));
    co_return;
  }
  if (path == kNewKey) {
    Reply reply;
    reply.body = {{"key", key_}};
    co_await send(turn, std::move(reply));
    co_return;
  }
  if (path.starts_with("/v1/")) {
    co_await ApiResponder::answer(turn);
    co_return;
  }
  co_await send_file(turn, path);
}

asio::awaitable<void> ConsoleResponder::send_file(Turn& turn, std::string_view path) {
  const Request& request = turn.request();
  const auto files = console_files();
  const auto file = std::find_if(files.begin(), files.end(), [&](const ConsoleFile& one) { return one.path == path; });
  if (file == files.end() || (request.head.method != "GET" && request.head.method != "HEAD")) {
    turn.writer().close_after();
    Reply reply = bad_call(file == files.end() ? 404 : 405, "The console has nothing at this path");
    co_await send(turn, std::move(reply));
    co_return;
  }
  ResponseHead head;
  head.fields = {{"Content-Type", std::string(file->type)},
                 {"X-Content-Type-Options", "nosniff"},
                 {"Content-Security-Policy", std::string(kPolicy)},
                 {"Referrer-Policy", "no-referrer"},
                 {"Cross-Origin-Opener-Policy", "same-origin"},
                 {"Cross-Origin-Resource-Policy", "same-origin"},
                 {"Vary", "Accept-Encoding"},
                 {"Cache-Control", file->is_lasting ? "public, max-age=31536000, immutable" : "no-cache"}};
  std::string body(file->gzipped);
  if (takes_gzip(request.head)) {
    head.fields.emplace_back("Content-Encoding", "gzip");
  } else {
    body = exchange::inflated(file->gzipped, exchange::kMostInflated).value_or("");
  }
  co_await turn.writer().page(std::move(head), std::move(body));
}

}  // namespace porter::server
