// Answering a request: from what it leads to, to what the writer sends.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "core/sites/route.hpp"
#include "server/connection/request.hpp"
#include "server/connection/responder.hpp"
#include "server/connection/turn.hpp"
#include "server/pages/problem_page.hpp"
#include "server/response/writer.hpp"

namespace porter::server {

/// Answers for the sites.
class SiteResponder : public Responder {
 public:
  asio::awaitable<void> answer(Turn& turn) override;
  asio::awaitable<void> refuse(Turn& turn, Finding finding) override;
  std::optional<ReadyResponse> find_ready(Turn& turn) override;
  bool is_recorded() const override { return true; }
};

// One function for each thing that a request can lead to; each in a file of its own. `request` is that of the turn, or
// what took its place on the way: a local redirect, a problem page.

asio::awaitable<void> answer_file(Turn& turn, const Request& request, sites::FileFound found);
asio::awaitable<void> answer_listing(Turn& turn, const Request& request, sites::FolderFound found);
/// How a request has come to a script.
struct WayToScript {
  std::size_t redirects = 0;  ///< Local redirects that led here; the request's body was for the first script.
  /// Not 0: the script makes the page for a problem with this status. Its own problems are answered with our page.
  int problem_status = 0;
  std::vector<std::pair<std::string_view, std::string>>
      problem_fields{};  ///< What a response of that status has to say.
};

/// Runs the script. A local redirect in its response is followed in turn.
asio::awaitable<void> answer_script(Turn& turn, const Request& request, std::shared_ptr<const sites::ScriptFound> found,
                                    WayToScript way);
asio::awaitable<void> answer_redirect(Turn& turn, sites::Redirect redirect);
/// Answers with what a route has come to; `redirects` as above.
asio::awaitable<void> answer_outcome(Turn& turn, const Request& request, sites::Outcome outcome, std::size_t redirects);

/// Answers with a page that explains `finding`: the site's own for that status, if it has one, which goes the way of
/// any file, else ours. `request` is null if none could be read. `written` is what a script wrote.
asio::awaitable<void> answer_problem(Turn& turn, const Request* request, Finding finding, pages::Written written);
inline asio::awaitable<void> answer_problem(Turn& turn, const Request* request, Finding finding) {
  return answer_problem(turn, request, std::move(finding), pages::Written());
}
/// The same with our page in any case.
asio::awaitable<void> answer_with_our_page(Turn& turn, const Request* request, Finding finding, pages::Written written);

/// Shows that the server works, where there is no page of a site to show: the sites, the interpreters, what to do next.
asio::awaitable<void> answer_start_page(Turn& turn, sites::StartPage page);

/// Reads the target and the Host of the request into it; a finding if they are not acceptable.
std::optional<Finding> read_target(Turn& turn);
/// What turn.site() and the request's target lead to, with the trail noted in the exchange.
sites::ResolveContext resolve_context_of(Turn& turn);

}  // namespace porter::server
