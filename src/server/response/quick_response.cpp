// Deciding whether a request is plain enough, and answering it from the cache.
#include "server/response/quick_response.hpp"

#include <ctime>
#include <utility>

#include "server/response/gzip.hpp"

namespace porter::server {
namespace {

/// What of a plain request matters here.
struct Plain {
  std::string_view accept_encoding;
  bool has_condition = false;
};

/// nullopt if the request has a field that only the full way understands.
std::optional<Plain> read_plain(const http::RequestHead& head, std::string_view known_host) {
  Plain plain;
  std::size_t hosts = 0;
  for (const http::Field& field : head.fields) {
    const std::string_view name = field.name;
    switch (name.size()) {
      case 4:
        if (http::same_name(name, "Host") && (++hosts > 1 || field.value != known_host)) return std::nullopt;
        break;
      case 5:
        if (http::same_name(name, "Range")) return std::nullopt;
        break;
      case 6:
        if (http::same_name(name, "Expect")) return std::nullopt;
        break;
      case 8:
        if (http::same_name(name, "If-Match") || http::same_name(name, "If-Range")) return std::nullopt;
        break;
      case 10:
        if (http::same_name(name, "Connection") && !http::same_name(field.value, "keep-alive")) return std::nullopt;
        break;
      case 13:
        if (http::same_name(name, "If-None-Match")) plain.has_condition = true;
        break;
      case 14:
        if (http::same_name(name, "Content-Length")) return std::nullopt;
        break;
      case 15:
        if (!http::same_name(name, "Accept-Encoding")) break;
        if (!plain.accept_encoding.empty()) return std::nullopt;
        plain.accept_encoding = field.value;
        break;
      case 17:
        if (http::same_name(name, "If-Modified-Since")) plain.has_condition = true;
        if (http::same_name(name, "Transfer-Encoding")) return std::nullopt;
        break;
      case 19:
        if (http::same_name(name, "If-Unmodified-Since")) return std::nullopt;
        break;
      default:
        break;
    }
  }
  if (hosts != 1) return std::nullopt;
  return plain;
}

}  // namespace

QuickFind find_quick_response(const http::RequestHead& head, FileCache& files, std::size_t site,
                              std::string_view known_host, FileCache::Clock::time_point now) {
  if (head.method != "GET" || head.minor_version != 1 || head.target.front() != '/') return {};
  const auto plain = read_plain(head, known_host);
  if (!plain) return {};
  static thread_local std::string decoded;
  const auto path = plain_path(head.target.substr(0, head.target.find('?')), decoded);
  if (!path) return {};
  std::shared_ptr<CachedFile> found = files.find({site, *path}, now);
  if (!found) return {};
  if (found->script) return {std::nullopt, std::move(found)};
  CachedFile& file = *found;
  ReadyResponse response;
  response.keeper = std::move(found);
  if (plain->has_condition) {
    const http::Verdict verdict = http::evaluate_conditions(head, file.validators, std::time(nullptr));
    if (verdict == http::Verdict::precondition_failed) return {};
    if (verdict == http::Verdict::not_modified) {
      response.status = 304;
      response.status_line = "HTTP/1.1 304 Not Modified\r\n";
      response.fields = file.kept_fields;
      return {std::move(response), nullptr};
    }
  }
  response.status_line = "HTTP/1.1 200 OK\r\n";
  const bool is_small = !file.file.is_open();
  if (file.is_compressible && http::accepts_coding(plain->accept_encoding, "gzip")) {
    if (file.gzip_content.empty() && !is_small) return {};
    if (file.gzip_content.empty()) files.add_compressed(file, gzip(file.content));
    response.fields = file.gzip_fields;
    response.body = file.gzip_content;
    return {std::move(response), nullptr};
  }
  response.fields = file.fields;
  if (is_small) {
    response.body = file.content;
  } else {
    response.file = {file.file.get(), 0, static_cast<std::uint64_t>(file.info.st_size)};
  }
  return {std::move(response), nullptr};
}

}  // namespace porter::server
