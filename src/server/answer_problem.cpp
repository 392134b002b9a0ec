// Answering with the explanation of a problem: HTML for a browser, plain text for others, and little for strangers.
#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <optional>

#include "core/files/beneath.hpp"
#include "core/text/text.hpp"
#include "server/answer.hpp"
#include "server/pages/problem_page.hpp"

namespace porter::server {
namespace {

bool wants_html(const Request* request) {
  return request != nullptr && request->head.joined("Accept").find("text/html") != std::string::npos;
}

struct OwnPage {
  std::string path;
  std::string content;
};

/// The page that the site has for problems with this status; nullopt if it has none that can be read.
std::optional<OwnPage> own_page(Connection& connection, int status) {
  constexpr std::size_t kMostBytes = 1024 * 1024;
  const Site& site = connection.site();
  const auto found = site.problem_pages.find(status);
  if (found == site.problem_pages.end()) return std::nullopt;
  auto root = files::Folder::open(site.document_root);
  if (std::holds_alternative<files::SystemError>(root)) return std::nullopt;
  auto opened = std::get<files::Folder>(root).open_beneath(found->second, O_RDONLY | O_NONBLOCK);
  const auto* const file = std::get_if<files::Descriptor>(&opened);
  if (file == nullptr) return std::nullopt;
  OwnPage page{found->second, {}};
  std::array<char, 16384> buffer{};
  for (;;) {
    const ssize_t got = ::read(file->get(), buffer.data(), buffer.size());
    if (got < 0 || page.content.size() > kMostBytes) return std::nullopt;
    if (got == 0) return page;
    page.content.append(buffer.data(), static_cast<std::size_t>(got));
  }
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
  if (const auto page = own_page(connection, status)) {
    connection.answered().by = fmt::format("{}: {}", code_name(finding.code), sentence_of(finding));
    AnswerHead head;
    head.status = status;
    const bool is_html = page->path.ends_with(".html") || page->path.ends_with(".htm");
    head.fields = {{"Content-Type", is_html ? "text/html; charset=utf-8" : "text/plain; charset=utf-8"},
                   {"Cache-Control", "no-store"}};
    if (const auto allowed = finding.fact("allowed")) head.fields.emplace_back("Allow", std::string(*allowed));
    if (status == 503) head.fields.emplace_back("Retry-After", "2");
    co_await answer_page(connection, request, std::move(head), page->content);
    co_return;
  }
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
