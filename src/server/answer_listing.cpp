// Showing a folder's entries.
#include <string>

#include "core/text/text.hpp"
#include "server/answer.hpp"
#include "server/pages/listing_page.hpp"

namespace porter::server {

asio::awaitable<void> answer_listing(Connection& connection, const Request& request, sites::FolderFound found,
                                     std::vector<std::string> trail) {
  auto entries = sites::read_entries(connection.settings(), connection.site(), found);
  if (const auto* const error = std::get_if<files::SystemError>(&entries)) {
    Finding finding{Code::unreadable,
                    {{"file", found.path},
                     {"file_quoted", text::shell_word(found.path)},
                     {"mode", files::describe(*error)},
                     {"change", "a+rx"}}};
    co_await answer_problem(connection, &request, std::move(finding), std::move(trail));
    co_return;
  }
  auto& rows = std::get<std::vector<sites::Entry>>(entries);
  if (rows.empty() && found.path == connection.site().document_root) {
    co_await answer_start_page(connection, request, found.path);
    co_return;
  }
  connection.answered().by = "listing";
  const sites::Order order = sites::order_from_query(request.target.query);
  sites::sort_entries(rows, order);
  AnswerHead head;
  head.fields = {{"Content-Type", "text/html; charset=utf-8"}, {"Cache-Control", "no-cache"}};
  co_await answer_page(connection, &request, std::move(head), pages::listing_page(request.target.path, rows, order));
}

}  // namespace porter::server
