// From a request to what answers it: the checks that come before any lookup, the resolution, and what it says.
#include "server/answer/answer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "core/http/status.hpp"
#include "core/sites/choose.hpp"
#include "server/pages/frame.hpp"

namespace porter::server {
namespace {

Finding framing_finding(http::FramingError error, const Request& request) {
  using http::FramingError;
  const auto malformed = [](std::string_view what) {
    return Finding{Code::malformed_body, {{"problem", std::string(what)}}};
  };
  switch (error) {
    case FramingError::both:
      return malformed("it has both a Content-Length and a Transfer-Encoding");
    case FramingError::bad_length:
      return malformed("its Content-Length is not one plain number");
    case FramingError::coding_in_1_0:
      return malformed("HTTP/1.0 knows no Transfer-Encoding");
    case FramingError::body_with_bare_lines:
      return malformed("its head ends lines with bare line feeds, and such a head may not announce a body");
    case FramingError::unknown_coding:
      break;
  }
  return {Code::coding_unknown, {{"coding", request.head.joined("Transfer-Encoding")}}};
}

/// A finding about a host that is not served, as it may be told to whoever asked for that host: a page that reached the
/// server through a name of its own is told no names of sites and no paths.
Finding fit_to_be_told(Finding finding, const http::Host& host) {
  if (host.is_ip || host.name.empty() || http::is_localhost_name(host.name)) return finding;
  std::erase_if(finding.facts, [](const Fact& fact) {
    return fact.first == "names" || fact.first == "site" || fact.first == "url" || fact.first == "settings";
  });
  return finding;
}

/// Reads target and Host into `request`, and finds the site that answers; a finding if there is none, or if they are
/// not acceptable.
std::optional<Finding> read_target(Connection& connection, Request& request) {
  auto target = http::parse_target(request.head.target, request.head.method);
  if (const auto* const error = std::get_if<http::TargetError>(&target)) {
    // What cannot be read as a target may still be known to be of no use: CONNECT is for proxies.
    if (!sites::is_known_method(request.head.method))
      return Finding{Code::method_unknown, {{"method", std::string(request.head.method)}}};
    return Finding{Code::malformed_target, {{"problem", std::string(http::describe(*error))}}};
  }
  request.target = std::move(std::get<http::Target>(target));
  const std::size_t hosts = request.head.count("Host");
  if (hosts > 1 || (hosts == 0 && request.head.minor_version == 1))
    return Finding{Code::host_missing, {{"count", std::to_string(hosts)}}};
  // The authority of an absolute target takes the place of Host (RFC 9112, section 3.2.2).
  const std::string value = request.target.authority && request.target.form == http::TargetForm::absolute
                                ? *request.target.authority
                                : std::string(request.head.field("Host").value_or(""));
  const auto field = request.head.field("Host");
  const std::string port = std::to_string(connection.peer().server_port);
  const bool field_is_bad = field && !field->empty() && !http::parse_host(*field);
  if (hosts == 1 || !value.empty()) {
    auto host = http::parse_host(value);
    if (!host || field_is_bad)
      return Finding{Code::host_malformed, {{"host", field_is_bad ? std::string(*field) : value}, {"port", port}}};
    request.host = std::move(*host);
  }
  if (const Site* const known = connection.site_of_remembered(value); known != nullptr && !request.target.authority) {
    connection.set_site(known);
    return std::nullopt;
  }
  auto chosen = sites::choose_site(connection.settings(), connection.listener(), request.host);
  if (auto* const finding = std::get_if<Finding>(&chosen)) return fit_to_be_told(std::move(*finding), request.host);
  const Site* const site = std::get<sites::Chosen>(chosen).site;
  connection.set_site(site);
  if (site != nullptr && hosts == 1 && !request.target.authority) connection.remember_host(value);
  return std::nullopt;
}

/// The problem with the request's body, as far as its head tells.
std::optional<Finding> check_body(const Connection& connection, const Request& request) {
  if (request.framing_error) return framing_finding(*request.framing_error, request);
  const std::uint64_t limit = connection.settings().limits.body;
  if (request.framing.length > limit)
    return Finding{Code::body_too_large,
                   {{"limit", std::to_string(limit)}, {"length", std::to_string(request.framing.length)}}};
  const auto expect = request.head.field("Expect");
  if (expect && request.head.minor_version == 1 && !http::same_name(*expect, "100-continue"))
    return Finding{Code::expectation_unknown, {{"expectation", std::string(*expect)}}};
  return std::nullopt;
}

asio::awaitable<void> answer_options(Connection& connection, const Request& request, std::string_view allowed) {
  connection.answered().by = "options";
  AnswerHead head;
  head.status = 204;
  head.fields = {{"Allow", std::string(allowed)}};
  co_await answer_page(connection, &request, std::move(head), {});
}

bool has_field(const AnswerHead& head, std::string_view name) {
  return std::any_of(head.fields.begin(), head.fields.end(),
                     [&](const auto& field) { return http::same_name(field.first, name); });
}

}  // namespace

void add_own_fields(AnswerHead& head, PageKind kind) {
  const bool is_html = kind == PageKind::html;
  head.fields.emplace_back("Content-Type", is_html ? "text/html; charset=utf-8" : "text/plain; charset=utf-8");
  head.fields.emplace_back("X-Content-Type-Options", "nosniff");
  head.fields.emplace_back("Content-Security-Policy", is_html ? pages::kHtmlPolicy : pages::kTextPolicy);
}

std::string write_head(Connection& connection, const AnswerHead& head, int minor_version) {
  std::string out;
  out.reserve(256);
  const auto into = std::back_inserter(out);
  const std::string_view reason = head.reason.empty() ? http::reason_phrase(head.status) : head.reason;
  fmt::format_to(into, "HTTP/1.1 {} {}\r\n", head.status, reason);
  const auto add = [&out](std::string_view name, std::string_view value) {
    for (const std::string_view part : {name, std::string_view(": "), value, std::string_view("\r\n")}) out += part;
  };
  for (const auto& [name, value] : head.fields) add(name, value);
  for (const auto& [name, value] : connection.site().answer_fields)
    if (!has_field(head, name)) add(name, value);
  if (head.chunked) {
    out += "Transfer-Encoding: chunked\r\n";
  } else if (head.length) {
    fmt::format_to(into, "Content-Length: {}\r\n", *head.length);
  }
  if (connection.will_close()) {
    out += "Connection: close\r\n";
  } else if (minor_version == 0) {
    out += "Connection: keep-alive\r\n";
  }
  out += connection.worker().date_and_end();
  return out;
}

asio::awaitable<void> answer_page(Connection& connection, const Request* request, AnswerHead head, std::string body) {
  connection.answered().status = head.status;
  if (!http::has_no_body(head.status)) head.length = body.size();
  const std::string text = write_head(connection, head, request == nullptr ? 1 : request->head.minor_version);
  const bool without_body = http::has_no_body(head.status) || (request != nullptr && request->is_head());
  if (without_body) body.clear();
  if (co_await connection.send(text, body)) {
    connection.answered().body_bytes = body.size();
  } else {
    connection.close_after_answer();
  }
}

asio::awaitable<void> answer_redirect(Connection& connection, const Request& request, sites::Redirect redirect) {
  connection.answered().by = "redirect to " + redirect.location;
  AnswerHead head;
  head.status = redirect.status;
  // Browsers keep a 301 for good unless told otherwise, and folders become files while one works on them.
  head.fields = {{"Location", redirect.location}, {"Cache-Control", "no-cache"}};
  add_own_fields(head, PageKind::text);
  std::string body = "This folder's page is at " + redirect.location + "\n";
  co_await answer_page(connection, &request, std::move(head), std::move(body));
}

asio::awaitable<void> answer_outcome(Connection& connection, const Request& request, sites::Resolution resolution,
                                     int redirects) {
  sites::Outcome& outcome = resolution.outcome;
  const bool only_options = request.head.method == "OPTIONS";
  if (auto* const script = std::get_if<sites::ScriptFound>(&outcome)) {
    WayToScript way{redirects};
    co_await answer_script(connection, request, std::move(*script), std::move(resolution.trail), std::move(way));
  } else if (auto* const finding = std::get_if<Finding>(&outcome)) {
    co_await answer_problem(connection, &request, std::move(*finding), std::move(resolution.trail));
  } else if (auto* const redirect = std::get_if<sites::Redirect>(&outcome)) {
    co_await answer_redirect(connection, request, std::move(*redirect));
  } else if (only_options) {
    co_await answer_options(connection, request, sites::kReadingMethods);
  } else if (auto* const file = std::get_if<sites::FileFound>(&outcome)) {
    co_await answer_file(connection, request, std::move(*file));
  } else {
    co_await answer_listing(connection, request, std::move(std::get<sites::FolderFound>(outcome)),
                            std::move(resolution.trail));
  }
}

asio::awaitable<void> answer(Connection& connection, Request& request) {
  auto body_refusal = check_body(connection, request);
  // How the body ends is not known, or reading it is not worth while: nothing behind it can be read either.
  if (body_refusal) connection.close_after_answer();
  // Whose page it is comes first: to a foreign name nothing is told of any site.
  auto refusal = read_target(connection, request);
  if (!refusal) refusal = std::move(body_refusal);
  if (!refusal && !sites::is_known_method(request.head.method))
    refusal = Finding{Code::method_unknown, {{"method", std::string(request.head.method)}}};
  if (refusal) {
    if (status_of(refusal->code) == 400) connection.close_after_answer();
    co_await answer_problem(connection, &request, std::move(*refusal), {});
    co_return;
  }
  if (request.target.form == http::TargetForm::asterisk) {
    co_await answer_options(connection, request, sites::kScriptMethods);
    co_return;
  }
  if (connection.site().name.empty()) {
    co_await answer_start_page(connection, request, {});
    co_return;
  }
  using Near = sites::Asked::Near;
  const auto look = [&](Near near) {
    return sites::resolve(connection.settings(), connection.site(), {request.head.method, request.target, near});
  };
  auto resolution = look(Near::few);
  if (resolution.has_more_names && connection.peer().is_this_computer) {
    auto looking = connection.worker().shared().helpers.run([&] { return look(Near::all); });
    resolution = co_await std::move(looking);
  }
  co_await answer_outcome(connection, request, std::move(resolution), 0);
}

}  // namespace porter::server
