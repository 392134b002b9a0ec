// From a request to what answers it: the checks that come before any lookup, the route, and what it says.
#include "server/response/respond.hpp"

#include <algorithm>

#include "core/http/findings.hpp"
#include "core/text/text.hpp"
#include "server/response/quick_response.hpp"
#include "server/worker.hpp"

namespace porter::server {
namespace {

/// A finding about a host that is not served, as it may be told to whoever asked for that host: a page that reached the
/// server through a name of its own is told no names of sites and no paths.
Finding fit_to_be_told(Finding finding, const http::Host& host) {
  if (host.is_ip || host.name.empty() || http::is_localhost_name(host.name)) return finding;
  std::erase_if(finding.facts, [](const Fact& fact) {
    return fact.first == "names" || fact.first == "site" || fact.first == "url" || fact.first == "command";
  });
  return finding;
}

/// CONNECT makes a tunnel and TRACE tells what came over one; every other method is a script's to understand.
bool is_for_proxies(std::string_view method) { return method == "CONNECT" || method == "TRACE"; }

/// The problem with the request's body, as far as its head tells.
std::optional<Finding> check_body(Turn& turn) {
  const Request& request = turn.request();
  if (request.framing_error) return http::finding_of(*request.framing_error, request.head);
  const std::uint64_t limit = turn.settings().limits.body;
  if (request.framing.length > limit)
    return Finding{Code::body_too_large,
                   {{"limit", text::format_limit(limit)}, {"length", std::to_string(request.framing.length)}}};
  const auto expect = request.head.field("Expect");
  if (expect && request.head.minor_version == 1 && !http::same_name(*expect, "100-continue"))
    return Finding{Code::expectation_unknown, {{"expectation", std::string(*expect)}}};
  return std::nullopt;
}

asio::awaitable<void> answer_options(Turn& turn, std::string_view allowed) {
  turn.exchange().by = ByOptions{};
  ResponseHead head;
  head.status = 204;
  head.fields = {{"Allow", std::string(allowed)}};
  co_await turn.writer().page(std::move(head), {});
}

/// What the request leads to; its site is noted, if there is one.
sites::Route route_of(Turn& turn, sites::Asked::Near near) {
  const Request& request = turn.request();
  const bool is_plain_host = request.head.count("Host") == 1 && !request.target.authority;
  const std::string_view field = request.head.field("Host").value_or("");
  const sites::Arrival arrival{*turn.listener(), request.host, is_plain_host ? turn.site_known_for(field) : nullptr};
  sites::ResolveContext in = resolve_context_of(turn);
  // All near names are looked for on a helper's thread, and what is remembered belongs to the worker's.
  if (near == sites::Asked::Near::few) in.programs = &turn.served().programs;
  sites::Route route = sites::route(
      in, arrival, {request.head.method, request.target, near, sites::may_be_page(request.head, request.target)});
  turn.set_site(route.site);
  if (route.site != nullptr && is_plain_host) turn.remember_host(field);
  return route;
}

}  // namespace

std::optional<Finding> read_target(Turn& turn) {
  Request& request = turn.request();
  auto target = http::parse_target(request.head.target, request.head.method);
  if (const auto* const error = std::get_if<http::TargetError>(&target)) {
    // What cannot be read as a target may still be known to be of no use: CONNECT is for proxies.
    if (is_for_proxies(request.head.method))
      return Finding{Code::method_unknown, {{"method", std::string(request.head.method)}}};
    return http::finding_of(*error);
  }
  request.target = std::move(std::get<http::Target>(target));
  const std::size_t hosts = request.head.count("Host");
  if (hosts > 1 || (hosts == 0 && request.head.minor_version == 1)) return http::wrong_host_count(hosts);
  const std::string_view field = request.head.field("Host").value_or("");
  const std::uint16_t port = turn.ends().server_port;
  auto host = http::parse_host(field);
  if (!host && !field.empty()) return http::bad_host(field, port);
  // The authority of an absolute target takes the place of Host (RFC 9112, section 3.2.2).
  const bool is_absolute = request.target.authority && request.target.form == http::TargetForm::absolute;
  if (is_absolute) host = http::parse_host(*request.target.authority);
  if (!host && is_absolute) return http::bad_host(*request.target.authority, port);
  if (!host && hosts > 0) return http::bad_host(field, port);
  if (host) request.host = std::move(*host);
  return std::nullopt;
}

sites::ResolveContext resolve_context_of(Turn& turn) { return {turn.settings(), turn.worker().shared().search_path}; }

asio::awaitable<void> answer_redirect(Turn& turn, sites::Redirect redirect) {
  ResponseHead head;
  head.status = redirect.status;
  // Browsers keep a 301 for good unless told otherwise, and folders become files while one works on them.
  head.fields = {{"Location", redirect.location}, {"Cache-Control", "no-cache"}};
  add_own_fields(head, PageKind::text);
  std::string body = "This folder's page is at " + redirect.location + "\n";
  turn.exchange().by = ByRedirect{std::move(redirect.location)};
  co_await turn.writer().page(std::move(head), std::move(body));
}

asio::awaitable<void> answer_outcome(Turn& turn, const Request& request, sites::Outcome outcome,
                                     std::size_t redirects) {
  const bool only_options = request.head.method == "OPTIONS";
  if (const auto* const file = std::get_if<sites::FileFound>(&outcome))
    turn.exchange().is_by_fallback = file->is_fallback;
  if (const auto* const script = std::get_if<sites::ScriptFound>(&outcome))
    turn.exchange().is_by_fallback = script->is_fallback;
  if (auto* const script = std::get_if<sites::ScriptFound>(&outcome)) {
    WayToScript way{redirects};
    auto found = std::make_shared<const sites::ScriptFound>(std::move(*script));
    co_await answer_script(turn, request, std::move(found), std::move(way));
  } else if (auto* const finding = std::get_if<Finding>(&outcome)) {
    co_await answer_problem(turn, &request, std::move(*finding));
  } else if (auto* const redirect = std::get_if<sites::Redirect>(&outcome)) {
    co_await answer_redirect(turn, std::move(*redirect));
  } else if (only_options) {
    co_await answer_options(turn, sites::kReadingMethods);
  } else if (auto* const start = std::get_if<sites::StartPage>(&outcome)) {
    co_await answer_start_page(turn, std::move(*start));
  } else if (auto* const file = std::get_if<sites::FileFound>(&outcome)) {
    co_await answer_file(turn, request, std::move(*file));
  } else {
    co_await answer_listing(turn, request, std::move(std::get<sites::FolderFound>(outcome)));
  }
}

asio::awaitable<void> SiteResponder::refuse(Turn& turn, Finding finding) {
  return answer_problem(turn, nullptr, std::move(finding));
}

std::optional<ReadyResponse> SiteResponder::find_ready(Turn& turn) {
  const std::string* const host = turn.known_host();
  const Site* const site = host == nullptr ? nullptr : turn.site_known_for(*host);
  if (site == nullptr) return std::nullopt;
  auto found =
      find_quick_response(turn.request().head, turn.files(), turn.number_of(*site), *host, turn.exchange().begun);
  if (!found.response && !found.script) return std::nullopt;
  turn.set_site(site);
  if (found.script) {
    turn.set_known_script(std::move(found.script));
    return std::nullopt;
  }
  turn.exchange().by = ByFile{};
  return std::move(found.response);
}

asio::awaitable<void> SiteResponder::answer(Turn& turn) {
  const Request& request = turn.request();
  auto body_refusal = check_body(turn);
  // How the body ends is not known, or reading it is not worth while: nothing behind it can be read either.
  if (body_refusal) turn.writer().close_after();
  // Whose page it is comes first: to a foreign name nothing is told of any site.
  auto refusal = read_target(turn);
  sites::Route route;
  if (const auto& known = turn.known_script(); known && !refusal) {
    // It is told where somebody wants to know the way.
    if (turn.is_recording()) turn.exchange().trail = known->script->trail;
    std::shared_ptr<const sites::ScriptFound> script(known->script, &known->script->found);
    WayToScript way;
    co_await answer_script(turn, request, std::move(script), std::move(way));
    co_return;
  }
  if (!refusal) {
    route = route_of(turn, sites::Asked::Near::few);
    if (route.has_more_names && turn.ends().is_this_computer) {
      auto looking = turn.worker().shared().helpers.pages.run([&] { return route_of(turn, sites::Asked::Near::all); });
      route = co_await std::move(looking);
    }
    auto* const finding = std::get_if<Finding>(&route.outcome);
    if (finding != nullptr && route.site == nullptr) refusal = fit_to_be_told(std::move(*finding), request.host);
  }
  if (!refusal) refusal = std::move(body_refusal);
  if (!refusal && is_for_proxies(request.head.method))
    refusal = Finding{Code::method_unknown, {{"method", std::string(request.head.method)}}};
  if (refusal) {
    if (status_of(refusal->code) == 400) turn.writer().close_after();
    co_await answer_problem(turn, &request, std::move(*refusal));
  } else if (request.target.form == http::TargetForm::asterisk) {
    co_await answer_options(turn, sites::kScriptMethods);
  } else if (route.site == nullptr) {
    sites::StartPage without_site;
    co_await answer_start_page(turn, std::move(without_site));
  } else {
    turn.exchange().trail = std::move(route.trail);
    co_await answer_outcome(turn, request, std::move(route.outcome), 0);
  }
}

}  // namespace porter::server
