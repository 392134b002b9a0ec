// Showing a folder's entries.
#include <optional>
#include <string>

#include "core/findings/resources.hpp"
#include "core/text/text.hpp"
#include "server/pages/listing_page.hpp"
#include "server/response/respond.hpp"
#include "server/worker.hpp"

namespace porter::server {

namespace {

/// Some milliseconds' worth of entries.
constexpr std::size_t kMostEntriesAtOnce = 1000;

/// What listing a folder comes to: the page, or why there is none.
struct Listing {
  std::string page;
  bool is_too_large = false;
  std::optional<files::SystemError> error;
};

Listing make_listing(const Settings& settings, const Site& site, const sites::FolderFound& found,
                     const http::Target& target, std::size_t most) {
  Listing out;
  auto entries = sites::read_entries(settings, site, found, most);
  out.is_too_large = std::holds_alternative<sites::TooMany>(entries);
  if (out.is_too_large) return out;
  if (const auto* const error = std::get_if<files::SystemError>(&entries)) {
    out.error = *error;
    return out;
  }
  auto& rows = std::get<std::vector<sites::Row>>(entries);
  const sites::Order order = sites::order_from_query(target.query);
  sites::sort_entries(rows, order);
  out.page = pages::listing_page(target.path, rows, order);
  return out;
}

Finding listing_finding(const std::string& folder, files::SystemError error) {
  if (files::is_lack_of_resources(error)) return out_of_resources("list " + folder, error.number);
  return {Code::unreadable,
          {{"file", folder},
           {"file_quoted", text::shell_word(folder)},
           {"mode", files::describe(error)},
           {"change", "a+rx"}}};
}

}  // namespace

asio::awaitable<void> answer_listing(Turn& turn, const Request& request, sites::FolderFound found) {
  // Handing a short list to another thread costs more than making it; a long one is not for the thread that serves
  // others.
  const auto make = [&](std::size_t most) {
    return make_listing(turn.settings(), turn.site(), found, request.target, most);
  };
  Listing made = make(kMostEntriesAtOnce);
  if (made.is_too_large) {
    auto making = turn.worker().shared().helpers.pages.run([&] { return make(SIZE_MAX); });
    made = co_await std::move(making);
  }
  if (made.error) {
    co_await answer_problem(turn, &request, listing_finding(found.path, *made.error));
    co_return;
  }
  turn.exchange().by = ByListing{};
  ResponseHead head;
  head.fields = {{"Cache-Control", "no-cache"}};
  add_own_fields(head, PageKind::html);
  co_await turn.writer().page(std::move(head), std::move(made.page));
}

}  // namespace porter::server
