// Answering with the explanation of a problem: HTML for a browser, plain text for others, and little for strangers.
#include <fmt/format.h>

#include <atomic>

#include "core/text/text.hpp"
#include "server/answer.hpp"
#include "server/pages/problem_page.hpp"

namespace porter::server {
namespace {

bool wants_html(const Request* request) {
  return request != nullptr && request->head.joined("Accept").find("text/html") != std::string::npos;
}

/// A number that is told to a client elsewhere and stands in the log beside the finding.
std::string next_number() {
  static std::atomic<unsigned> count{0};
  return fmt::format("P{}", ++count);
}

}  // namespace

asio::awaitable<void> answer_problem(Connection& connection, const Request* request, Finding finding,
                                     std::vector<std::string> trail, std::vector<std::string> details) {
  const int status = status_of(finding.code);
  Answered& answered = connection.answered();
  answered.by = fmt::format("{}: {}", code_name(finding.code), sentence_of(finding));
  AnswerHead head;
  head.status = status;
  if (const auto allowed = finding.fact("allowed")) head.fields.emplace_back("Allow", std::string(*allowed));
  if (finding.code == Code::range_not_satisfiable)
    head.fields.emplace_back("Content-Range", fmt::format("bytes */{}", finding.fact("size").value_or("0")));
  if (status == 503) head.fields.emplace_back("Retry-After", "2");
  // A page about a problem must never be shown again once the problem is mended.
  head.fields.emplace_back("Cache-Control", "no-store");
  const bool html = wants_html(request);
  head.fields.emplace_back("Content-Type", html ? "text/html; charset=utf-8" : "text/plain; charset=utf-8");
  std::string body;
  if (connection.peer().is_this_computer) {
    pages::Problem problem{std::move(finding), {}, std::move(trail), std::move(details)};
    if (request != nullptr) problem.asked = std::string(request->head.method) + " " + std::string(request->head.target);
    body = html ? pages::problem_html(problem) : pages::problem_text(problem);
  } else {
    const std::string number = next_number();
    answered.by = number + " " + answered.by;
    body = html ? pages::reserved_html(status, number) : pages::reserved_text(status, number);
  }
  co_await answer_page(connection, request, std::move(head), std::move(body));
}

}  // namespace porter::server
