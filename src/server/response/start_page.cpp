// Answering where no page of a site is there to show.
#include <algorithm>
#include <span>

#include "core/files/beneath.hpp"
#include "core/sites/choose.hpp"
#include "core/text/text.hpp"
#include "server/pages/start_page.hpp"
#include "server/response/respond.hpp"
#include "server/worker.hpp"

namespace porter::server {

asio::awaitable<void> answer_start_page(Turn& turn, sites::StartPage start) {
  turn.exchange().by = ByStartPage{};
  const Settings& settings = turn.settings();
  ResponseHead head;
  head.fields = {{"Cache-Control", "no-store"}};
  const bool is_told = turn.ends().is_this_computer;
  add_own_fields(head, is_told ? PageKind::html : PageKind::text);
  if (!is_told) {
    // Folders and programs of this machine are nobody else's business.
    std::string nothing = "There is nothing here yet.\n";
    co_await turn.writer().page(std::move(head), std::move(nothing));
    co_return;
  }
  pages::StartPage page;
  page.empty_root = start.empty_root;
  constexpr std::size_t kMostSites = 100;
  for (const Site& site : std::span(settings.sites).first(std::min(settings.sites.size(), kMostSites)))
    page.sites.emplace_back(site.name, sites::url_of(settings, site, sites::main_address(settings, site)) + "/");
  for (const script::Interpreter& interpreter : settings.interpreters)
    page.interpreters.emplace_back(interpreter.language,
                                   files::find_program(interpreter.program, turn.worker().shared().search_path));
  page.next_step = "uporter site add NAME FOLDER";
  if (!start.empty_root.empty())
    page.next_step = "echo '<h1>Ahoy</h1>' > " + text::shell_word(start.empty_root + "/index.html");
  page.console_url = turn.console_url();
  std::string body = pages::start_page(page);
  co_await turn.writer().page(std::move(head), std::move(body));
}

}  // namespace porter::server
