// Answering a request: from what it leads to, to the bytes that are sent.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "core/sites/listing.hpp"
#include "core/sites/resolve.hpp"
#include "server/connection/connection.hpp"
#include "server/connection/request.hpp"

namespace porter::server {

/// The head of an answer before it is written out.
struct AnswerHead {
  int status = 200;
  std::string_view reason;  ///< Empty: the usual phrase.
  std::vector<std::pair<std::string_view, std::string>> fields;
  std::optional<std::uint64_t> length;  ///< Content-Length.
  bool chunked = false;
};

/// The bytes of the head: status line, Date, the fields, framing, and Connection as the connection has decided.
std::string write_head(Connection& connection, const AnswerHead& head, int minor_version);

enum class PageKind { html, text };
/// Adds to `head` what every page of our own says of itself: its type, that no other is to be guessed, and that it
/// loads nothing, runs nothing and stands in no frame.
void add_own_fields(AnswerHead& head, PageKind kind);

/// Reads the request's target and host into it, resolves it and answers it.
asio::awaitable<void> answer(Connection& connection, Request& request);

// One function for each thing that a request can lead to; each in a file of its own.

asio::awaitable<void> answer_file(Connection& connection, const Request& request, sites::FileFound found);
asio::awaitable<void> answer_listing(Connection& connection, const Request& request, sites::FolderFound found,
                                     std::vector<std::string> trail);
/// How a request has come to a script.
struct WayToScript {
  int redirects = 0;  ///< Local redirects that led here; the request's body was for the first script.
  /// Not 0: the script makes the page for a problem with this status. Its own problems are answered with our page.
  int problem_status = 0;
  std::vector<std::pair<std::string_view, std::string>>
      problem_fields{};  ///< What an answer of that status has to say.
};

/// Runs the script. A local redirect in its answer is resolved in turn.
asio::awaitable<void> answer_script(Connection& connection, const Request& request, sites::ScriptFound found,
                                    std::vector<std::string> trail, WayToScript way);
asio::awaitable<void> answer_redirect(Connection& connection, const Request& request, sites::Redirect redirect);
/// Follows what a resolution says; `redirects` as above.
asio::awaitable<void> answer_outcome(Connection& connection, const Request& request, sites::Resolution resolution,
                                     int redirects);

/// Answers with a page that explains `finding`: the site's own for that status, if it has one, which goes the way of
/// any file, else ours. `request` is null if none could be read. `details` are lines of an error stream to show, if
/// any.
asio::awaitable<void> answer_problem(Connection& connection, const Request* request, Finding finding,
                                     std::vector<std::string> trail, std::vector<std::string> details = {});
/// The same with our page in any case.
asio::awaitable<void> answer_with_our_page(Connection& connection, const Request* request, Finding finding,
                                           std::vector<std::string> trail, std::vector<std::string> details = {});

/// Shows that the server works, where there is no page of a site to show: the sites, the interpreters, what to do next.
/// `empty_root` is the document root that is empty, or empty itself where the address has no site.
asio::awaitable<void> answer_start_page(Connection& connection, const Request& request, const std::string& empty_root);

/// Sends a page that is whole in memory.
asio::awaitable<void> answer_page(Connection& connection, const Request* request, AnswerHead head, std::string body);

}  // namespace porter::server
