// The listing: a table that sorts through links, so that it works without a script.
#include "server/pages/listing_page.hpp"

#include <fmt/format.h>

#include <ctime>
#include <iterator>

#include "core/http/target.hpp"
#include "core/text/text.hpp"
#include "server/pages/frame.hpp"

namespace porter::server::pages {
namespace {

std::string local_date(std::int64_t seconds) {
  const std::time_t time = seconds;
  std::tm local{};
  ::localtime_r(&time, &local);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}", local.tm_year + 1900, local.tm_mon + 1, local.tm_mday,
                     local.tm_hour, local.tm_min);
}

/// A column's heading: a link that sorts by it, or turns the order round if the listing is sorted by it already.
void append_heading(std::string& out, std::string_view text, std::string_view css, sites::SortKey column,
                    sites::Order order) {
  const bool is_current = order.key == column;
  const std::string query = sites::query_of({column, is_current && !order.descending});
  fmt::format_to(std::back_inserter(out), "<th class=\"{}\"{}><a href=\"?{}\">{}</a>{}</th>", css,
                 is_current ? (order.descending ? " aria-sort=\"descending\"" : " aria-sort=\"ascending\"") : "", query,
                 text, is_current ? (order.descending ? " ▾" : " ▴") : "");
}

void append_entry(std::string& out, const sites::Row& entry) {
  const std::string_view slash = entry.is_folder ? "/" : "";
  // "./" keeps a name with a colon in it from being read as a scheme.
  fmt::format_to(std::back_inserter(out), "<tr><td class=\"name\"><a href=\"./{}{}\"{}>{}{}</a>{}</td>",
                 http::percent_encode_path(entry.name), slash, entry.is_folder ? " class=\"folder\"" : "",
                 text::escape_html(entry.name), slash, entry.runs ? "<span class=\"runs\">runs</span>" : "");
  fmt::format_to(std::back_inserter(out), "<td class=\"number\">{}</td><td class=\"date\">{}</td></tr>\n",
                 entry.is_folder ? "" : text::format_size(entry.size), local_date(entry.changed));
}

std::string count_text(const std::vector<sites::Row>& entries) {
  std::size_t folders = 0;
  for (const sites::Row& entry : entries) folders += entry.is_folder ? 1 : 0;
  const std::size_t files = entries.size() - folders;
  if (entries.empty()) return "This folder is empty.";
  return fmt::format("{} {}, {} {}", folders, folders == 1 ? "folder" : "folders", files,
                     files == 1 ? "file" : "files");
}

}  // namespace

std::string listing_page(std::string_view path, const std::vector<sites::Row>& entries, sites::Order order) {
  std::string out;
  out.reserve(1024 + entries.size() * 220);
  fmt::format_to(std::back_inserter(out), "<h1>{}</h1>\n<table>\n<thead><tr>", text::escape_html(path));
  append_heading(out, "Name", "name", sites::SortKey::name, order);
  append_heading(out, "Size", "number", sites::SortKey::size, order);
  append_heading(out, "Changed", "date", sites::SortKey::date, order);
  out += "</tr></thead>\n<tbody>\n";
  if (path != "/") {
    out +=
        "<tr><td class=\"name\"><a href=\"../\" class=\"folder\">../</a> <span class=\"count\">the folder above</span>"
        "</td><td></td><td></td></tr>\n";
  }
  for (const sites::Row& entry : entries) append_entry(out, entry);
  fmt::format_to(std::back_inserter(out), "</tbody>\n</table>\n<p class=\"count\">{}</p>\n", count_text(entries));
  return frame(fmt::format("{} – listing", path), out);
}

}  // namespace porter::server::pages
