// The quick way for what is asked for most: a file that lies in the cache, proven fresh, for a plain GET.
//
// It answers only what the full way (server/answer/answer.hpp) would answer with the same bytes; whatever is unusual
// about a request sends it there.
#pragma once

#include <memory>
#include <optional>
#include <string_view>

#include "core/http/head.hpp"
#include "server/answer/file_cache.hpp"

namespace porter::server {

struct QuickAnswer {
  std::shared_ptr<CachedFile> file;  ///< Keeps alive what the views point to.
  int status = 200;
  std::string_view status_line;
  std::string_view fields;  ///< All but Date; Content-Length among them where there is a body.
  std::string_view body;
  std::uint64_t file_size = 0;  ///< Not 0: the body is this much of `file->file`, and `body` is empty.
};

/// The answer to `head` from what `files` keep for `site`; nullopt if the request must go the full way. `known_host` is
/// the Host value that the full way has accepted before on this connection, for that site.
std::optional<QuickAnswer> find_quick_answer(const http::RequestHead& head, FileCache& files, std::size_t site,
                                             std::string_view known_host);

}  // namespace porter::server
