// Answering with the explanation of a problem: the site's own page, else HTML for a browser, plain text for others, and
// little for strangers.
#include <fmt/format.h>

#include <atomic>
#include <optional>
#include <utility>

#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/http/media_type.hpp"
#include "core/http/target.hpp"
#include "core/script/error_place.hpp"
#include "core/sites/resolve.hpp"
#include "core/sites/shown_names.hpp"
#include "core/text/text.hpp"
#include "server/pages/problem_page.hpp"
#include "server/response/respond.hpp"
#include "server/worker.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kMostPageBytes = 1024 * 1024;
constexpr std::size_t kLinesAround = 3;

bool wants_html(const Request* request) {
  return request != nullptr && request->head.joined("Accept").find("text/html") != std::string::npos;
}

/// What a response with the finding's status has to say in its head, whoever makes the page.
std::vector<std::pair<std::string_view, std::string>> problem_fields(const Finding& finding) {
  const int status = status_of(finding.code);
  std::vector<std::pair<std::string_view, std::string>> fields;
  if (const auto allowed = finding.fact("allowed")) fields.emplace_back("Allow", std::string(*allowed));
  if (status == 416)
    fields.emplace_back("Content-Range", fmt::format("bytes */{}", finding.fact("size").value_or("0")));
  if (status == 503) fields.emplace_back("Retry-After", "2");
  // A page about a problem must never be shown again once the problem is mended.
  fields.emplace_back("Cache-Control", "no-store");
  return fields;
}

/// Notes what is answered with.
void note_problem(Turn& turn, const Finding& finding) {
  turn.exchange().by = ByProblem{};
  turn.exchange().findings.insert(turn.exchange().findings.begin(), finding);
}

/// What the page that the site has for problems with this status leads to, as for any request for it; nullopt if it has
/// none, or if that is neither a file nor a script.
std::optional<sites::Outcome> find_own_page(Turn& turn, int status) {
  const Site& site = turn.site();
  const auto page = site.problem_pages.find(status);
  if (page == site.problem_pages.end()) return std::nullopt;
  const http::Target target = http::target_of("/" + page->second);
  auto route = sites::route_within(resolve_context_of(turn), site, {"GET", target});
  const bool is_page = std::holds_alternative<sites::FileFound>(route.outcome) ||
                       std::holds_alternative<sites::ScriptFound>(route.outcome);
  if (!is_page) return std::nullopt;
  return std::move(route.outcome);
}

/// The lines of the source around the place that the finding names. Only of files that lie below the document root or
/// beside the script: what an error message names may be anything.
std::vector<script::SourceLine> source_of(const Turn& turn, const Finding& finding) {
  const auto place = finding.fact("place");
  const auto line = finding.fact("line");
  const auto script = finding.fact("file");
  if (!place || !line || !script) return {};
  const Site& site = turn.site();
  const std::string folders[] = {site.document_root, std::string(files::folder_of(*script))};
  auto lines = script::source_around(std::string(*place), script::line_number(*line), kLinesAround, folders,
                                     [&site](std::string_view name) { return !sites::is_hidden(site, name); });
  const std::size_t open = script::line_number(finding.fact("open_line").value_or(""));
  for (script::SourceLine& one : lines) one.is_marked = one.is_marked || one.number == open;
  return lines;
}

/// A number that is told to a client elsewhere and stands in the log beside the finding.
std::string next_number() {
  static std::atomic<unsigned> count{0};
  return fmt::format("P{}", ++count);
}

}  // namespace

asio::awaitable<void> answer_problem(Turn& turn, const Request* request, Finding finding, pages::Written written) {
  const int status = status_of(finding.code);
  auto own = find_own_page(turn, status);
  if (own && std::holds_alternative<sites::FileFound>(*own)) {
    const auto& file = std::get<sites::FileFound>(*own);
    if (auto content = files::content_of(file.file, kMostPageBytes)) {
      note_problem(turn, finding);
      ResponseHead head;
      head.status = status;
      head.fields = problem_fields(finding);
      head.fields.emplace_back("Content-Type",
                               http::media_type(files::base_name(file.path), turn.settings().media_types,
                                                turn.worker().shared().system_types));
      co_await turn.writer().page(std::move(head), std::move(*content));
      co_return;
    }
  } else if (own && request != nullptr) {
    auto script = std::move(std::get<sites::ScriptFound>(*own));
    WayToScript way{0, status, problem_fields(finding)};
    Request page_request = *request;
    if (!page_request.is_head()) page_request.head.method = "GET";
    note_problem(turn, finding);
    turn.exchange().trail.push_back(fmt::format("{}: {}", code_name(finding.code), sentence_of(finding)));
    auto found = std::make_shared<const sites::ScriptFound>(std::move(script));
    co_await answer_script(turn, page_request, std::move(found), std::move(way));
    co_return;
  }
  co_await answer_with_our_page(turn, request, std::move(finding), std::move(written));
}

asio::awaitable<void> answer_with_our_page(Turn& turn, const Request* request, Finding finding,
                                           pages::Written written) {
  const int status = status_of(finding.code);
  note_problem(turn, finding);
  ResponseHead head;
  head.status = status;
  head.fields = problem_fields(finding);
  const bool html = wants_html(request);
  add_own_fields(head, html ? PageKind::html : PageKind::text);
  std::string body;
  if (turn.ends().is_this_computer) {
    pages::Problem problem{finding, {}, turn.exchange().trail, std::move(written), {}, {}, turn.console_url()};
    problem.source = source_of(turn, finding);
    // A site that was added may be in the settings that were refused.
    if (finding.code == Code::host_not_served) problem.note = turn.worker().shared().refused_settings.text();
    if (const Site& site = turn.site(); !site.missing_root.empty())
      problem.note = "The settings name the document root " + site.missing_root +
                     ", which does not exist; what is shown is " + site.document_root + ".";
    if (request != nullptr) problem.asked = std::string(request->head.method) + " " + std::string(request->head.target);
    body = html ? pages::problem_html(problem) : pages::problem_text(problem);
  } else {
    const std::string number = next_number();
    turn.exchange().by = ByProblem{number};
    body = html ? pages::reserved_html(status, number) : pages::reserved_text(status, number);
  }
  co_await turn.writer().page(std::move(head), std::move(body));
}

}  // namespace porter::server
