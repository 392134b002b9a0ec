// Answering where no page of a site is there to show.
#include "core/files/beneath.hpp"
#include "core/sites/choose.hpp"
#include "core/text/text.hpp"
#include "server/answer.hpp"
#include "server/pages/start_page.hpp"

namespace porter::server {

asio::awaitable<void> answer_start_page(Connection& connection, const Request& request, const std::string& empty_root) {
  connection.answered().by = "start page";
  const Settings& settings = connection.settings();
  AnswerHead head;
  head.fields = {{"Content-Type", "text/html; charset=utf-8"}, {"Cache-Control", "no-store"}};
  if (!connection.peer().is_this_computer) {
    // Folders and programs of this machine are nobody else's business.
    std::string nothing = "There is nothing here yet.\n";
    head.fields.front().second = "text/plain; charset=utf-8";
    co_await answer_page(connection, &request, std::move(head), std::move(nothing));
    co_return;
  }
  pages::StartPage page;
  page.empty_root = empty_root;
  for (const Site& site : settings.sites)
    page.sites.emplace_back(site.name, sites::url_of(settings, site, sites::main_address(settings, site)) + "/");
  for (const script::Interpreter& interpreter : settings.interpreters)
    page.interpreters.emplace_back(interpreter.language,
                                   files::find_program(interpreter.program, settings.search_path));
  page.next_step = "uporter site add NAME FOLDER";
  if (!empty_root.empty()) page.next_step = "echo '<h1>Ahoy</h1>' > " + text::shell_word(empty_root + "/index.html");
  std::string body = pages::start_page(page);
  co_await answer_page(connection, &request, std::move(head), std::move(body));
}

}  // namespace porter::server
