// The quick way for what is asked for most: a file that lies in the cache, proven fresh, for a plain GET.
//
// It answers only what the full way (server/response/respond.hpp) would answer with the same bytes; whatever is unusual
// about a request sends it there.
#pragma once

#include <memory>
#include <optional>
#include <string_view>

#include "core/http/head.hpp"
#include "server/response/file_cache.hpp"
#include "server/response/writer.hpp"

namespace porter::server {

/// Both are empty: the request must go the full way.
struct QuickFind {
  std::optional<ReadyResponse> response;
  std::shared_ptr<const CachedFile> script;  ///< What answers.
};

/// The response to `head` from what `files` keep for `site`, or the script that gives one. `known_host` is the Host
/// value that the full way has accepted before on this connection, for that site; `now` is when the head had arrived.
QuickFind find_quick_response(const http::RequestHead& head, FileCache& files, std::size_t site,
                              std::string_view known_host, FileCache::Clock::time_point now);

}  // namespace porter::server
