// Sending a file: whole, in parts, compressed, or not at all because the client has it already.
#include <fmt/format.h>
#include <unistd.h>

#include <boost/asio/post.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <cerrno>
#include <ctime>
#include <random>

#include "core/files/paths.hpp"
#include "core/files/state.hpp"
#include "core/http/conditions.hpp"
#include "core/http/date.hpp"
#include "core/http/media_type.hpp"
#include "core/http/range.hpp"
#include "core/text/text.hpp"
#include "server/response/file_cache.hpp"
#include "server/response/gzip.hpp"
#include "server/response/respond.hpp"
#include "server/worker.hpp"

namespace porter::server {
namespace {

constexpr std::uint64_t kCompressFrom = 1024;
constexpr std::size_t kPiece = 64 * 1024;
/// Bytes of a page that are looked through for code that was meant to be run.
constexpr std::size_t kLookedThrough = 64 * 1024;
/// How long compressing goes on without a pause.
constexpr std::chrono::milliseconds kCompressAtOnce{3};

/// Up to `size` bytes of `file` from `offset`; fewer if it has become shorter.
std::string read_part(int file, std::uint64_t offset, std::size_t size) {
  std::string content(size, '\0');
  std::size_t at = 0;
  while (at < size) {
    const ssize_t got = ::pread(file, content.data() + at, size - at, static_cast<off_t>(offset + at));
    if (got < 0 && errno == EINTR) continue;
    if (got <= 0) break;
    at += static_cast<std::size_t>(got);
  }
  content.resize(at);
  return content;
}

/// The coding's own validator: the same state, but not the same bytes.
std::string weak_tag(const std::string& etag) { return "W/" + etag; }

enum class Coding { none, gzip };

/// One file answering one request.
class FileResponse {
 public:
  FileResponse(Turn& turn, const Request& request, sites::FileFound found)
      : turn_(turn),
        request_(request),
        found_(std::move(found)),
        size_(static_cast<std::uint64_t>(found_.info.st_size)),
        now_(std::time(nullptr)) {
    type_ = http::media_type(files::base_name(found_.path), turn.settings().media_types,
                             turn.worker().shared().system_types);
    // A date ahead of the response's own would be no date of a change (RFC 9110, section 8.8.2.1).
    validators_ = {entity_tag(found_.info), std::min<std::int64_t>(found_.info.st_mtim.tv_sec, now_)};
    is_compressible_ = size_ > kCompressFrom && http::compresses_well(type_);
    kept_at_ = path_to_keep(request.target, found_.cannot_be_shadowed);
  }

  asio::awaitable<void> answer();

 private:
  /// The head of a 200, of a 206, or of a 304, without what tells of the body.
  ResponseHead common_head(int status, Coding coding) const;
  ResponseHead whole_head(Coding coding) const;
  /// Notes that PHP is sent as text, where it is.
  void note_source();
  asio::awaitable<void> send_whole();
  asio::awaitable<void> send_small(Coding coding);
  asio::awaitable<void> send_compressed();
  asio::awaitable<void> send_ranges(const std::vector<http::ByteRange>& ranges);
  asio::awaitable<void> send_multipart(const std::vector<http::ByteRange>& ranges);
  FileCache::Key key() const { return {turn_.number_of(turn_.site()), *kept_at_}; }
  /// Keeps what quick answers are made from; `content`, `file` or `compressed` is its body.
  CachedFile make_cached() const;
  void keep(CachedFile cached) { turn_.files().keep(key(), std::move(cached), turn_.exchange().begun); }

  Turn& turn_;
  const Request& request_;
  sites::FileFound found_;
  std::uint64_t size_;
  std::int64_t now_;
  std::string type_;
  http::Validators validators_;
  bool is_compressible_ = false;
  std::optional<std::string> kept_at_;  ///< The path for which the cache may keep it; nullopt: it may not.
};

ResponseHead FileResponse::common_head(int status, Coding coding) const {
  ResponseHead head;
  head.status = status;
  head.fields = {{"ETag", coding == Coding::gzip ? weak_tag(validators_.etag) : validators_.etag},
                 {"Last-Modified", http::format_date(validators_.modified)}};
  const auto& of_site = turn_.site().response_headers;
  const bool says_how_long = std::any_of(
      of_site.begin(), of_site.end(), [](const auto& field) { return http::same_name(field.first, "Cache-Control"); });
  // So that a reload after an edit always shows the edit.
  if (!says_how_long) head.fields.emplace_back("Cache-Control", "no-cache");
  if (is_compressible_) head.fields.emplace_back("Vary", "Accept-Encoding");
  return head;
}

ResponseHead FileResponse::whole_head(Coding coding) const {
  ResponseHead head = common_head(200, coding);
  head.fields.emplace_back("Content-Type", type_);
  if (coding == Coding::gzip) {
    head.fields.emplace_back("Content-Encoding", "gzip");
  } else {
    head.fields.emplace_back("Accept-Ranges", "bytes");
  }
  return head;
}

void FileResponse::note_source() {
  const std::string_view name = files::base_name(found_.path);
  const std::size_t dot = std::min(name.rfind('.'), name.size());
  const std::string ending = text::to_lower(name.substr(dot));
  static const std::vector<std::string> kOfPages = {".html", ".htm", ".xhtml", ".inc", ".tpl"};
  if (!text::contains(kOfPages, ending)) return;
  const std::string start = read_part(found_.file.get(), 0, std::min<std::size_t>(kLookedThrough, size_));
  if (start.find("<?php") == start.npos) return;
  turn_.exchange().findings.push_back({Code::source_sent_as_text, {{"file", found_.path}, {"ending", ending}}});
  // What is quickly answered is not looked through.
  kept_at_.reset();
}

asio::awaitable<void> FileResponse::answer() {
  turn_.exchange().by = ByFile{};
  note_source();
  // The cache is told that the file was judged again, also where it is not sent.
  if (kept_at_) turn_.files().renew(key(), found_.info, turn_.exchange().begun);
  const http::Verdict verdict = http::evaluate_conditions(request_.head, validators_, now_);
  if (verdict == http::Verdict::not_modified) {
    co_await turn_.writer().page(common_head(304, Coding::none), {});
    co_return;
  }
  if (verdict == http::Verdict::precondition_failed) {
    const bool by_tag = request_.head.field("If-Match").has_value();
    Finding finding{Code::precondition_failed, {}};
    finding.facts.emplace_back("condition", by_tag ? "If-Match" : "If-Unmodified-Since");
    finding.facts.emplace_back("file", found_.path);
    co_await answer_problem(turn_, &request_, std::move(finding));
    co_return;
  }
  // Range is for GET alone (section 14.2).
  const auto range = request_.head.field("Range");
  if (range && request_.head.method == "GET" && request_.head.count("Range") == 1 &&
      http::range_applies(request_.head, validators_, now_)) {
    if (const auto ranges = http::select_ranges(*range, size_)) {
      co_await send_ranges(*ranges);
      co_return;
    }
  }
  co_await send_whole();
}

asio::awaitable<void> FileResponse::send_whole() {
  const bool accepted = http::accepts_coding(request_.head.joined("Accept-Encoding"), "gzip");
  const Coding coding = is_compressible_ && accepted ? Coding::gzip : Coding::none;
  if (size_ <= FileCache::kMostFileBytes && !request_.is_head()) {
    co_await send_small(coding);
    co_return;
  }
  if (coding == Coding::gzip) {
    co_await send_compressed();
    co_return;
  }
  ResponseHead head = whole_head(Coding::none);
  head.length = size_;
  turn_.writer().begin(head);
  co_await turn_.writer().body(std::string_view(), {found_.file.get(), 0, size_});
  const bool is_sent = co_await turn_.writer().end();
  if (!is_sent || request_.is_head() || !kept_at_) co_return;
  CachedFile cached = make_cached();
  cached.file = std::move(found_.file);
  keep(std::move(cached));
}

asio::awaitable<void> FileResponse::send_small(Coding coding) {
  std::string content = read_part(found_.file.get(), 0, static_cast<std::size_t>(size_));
  struct stat after {};
  const bool is_steady =
      content.size() == size_ && ::fstat(found_.file.get(), &after) == 0 && files::same_state(after, found_.info);
  ResponseHead head = whole_head(coding);
  if (!is_steady) {
    // It was written to meanwhile: what was read is sent, but neither kept nor given a name.
    std::erase_if(head.fields,
                  [](const auto& field) { return field.first == "ETag" || field.first == "Last-Modified"; });
  } else if (kept_at_) {
    CachedFile cached = make_cached();
    cached.content = content;
    keep(std::move(cached));
  }
  if (coding == Coding::gzip) content = gzip(content);
  co_await turn_.writer().page(std::move(head), std::move(content));
}

CachedFile FileResponse::make_cached() const {
  const ResponseHeaders& of_site = turn_.site().response_headers;
  CachedFile cached;
  cached.path = found_.path;
  cached.info = found_.info;
  cached.validators = validators_;
  cached.is_compressible = is_compressible_;
  ResponseHead whole = whole_head(Coding::none);
  whole.length = size_;
  cached.fields = field_lines(whole, of_site);
  cached.gzip_fields = field_lines(whole_head(Coding::gzip), of_site);
  cached.kept_fields = field_lines(common_head(304, Coding::none), of_site);
  return cached;
}

asio::awaitable<void> FileResponse::send_compressed() {
  Writer& writer = turn_.writer();
  writer.begin(whole_head(Coding::gzip));
  Gzip stream;
  std::string out;
  std::string all;  // Of what is small enough to be kept.
  bool is_kept = kept_at_.has_value() && !request_.is_head();
  bool goes_on = !request_.is_head();
  auto resumed = Clock::now();
  for (std::uint64_t at = 0; goes_on && at < size_; at += kPiece) {
    const auto wanted = static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, size_ - at));
    const std::string piece = read_part(found_.file.get(), at, wanted);
    goes_on = piece.size() == wanted;
    if (!goes_on) writer.cut_off();
    if (goes_on) stream.add(piece, at + wanted == size_ ? Gzip::More::no : Gzip::More::yes, out);
    // Compressing takes its time, and others have requests too; but pausing after each piece would only mix them up.
    if (Clock::now() - resumed > kCompressAtOnce) {
      co_await asio::post(turn_.executor(), asio::use_awaitable);
      resumed = Clock::now();
    }
    is_kept = is_kept && all.size() + out.size() <= FileCache::kMostCompressedBytes;
    if (is_kept) all += out;
    if (goes_on && !out.empty()) goes_on = co_await writer.body(out);
    out.clear();
  }
  const bool is_sent = co_await writer.end();
  struct stat after {};
  const bool is_steady = ::fstat(found_.file.get(), &after) == 0 && files::same_state(after, found_.info);
  if (!is_sent || !is_kept || !is_steady) co_return;
  CachedFile cached = make_cached();
  cached.file = std::move(found_.file);
  cached.set_compressed(std::move(all));
  keep(std::move(cached));
}

asio::awaitable<void> FileResponse::send_ranges(const std::vector<http::ByteRange>& ranges) {
  if (ranges.empty()) {
    Finding finding{Code::range_not_satisfiable, {}};
    finding.facts.emplace_back("range", std::string(*request_.head.field("Range")));
    finding.facts.emplace_back("file", found_.path);
    finding.facts.emplace_back("size", std::to_string(size_));
    co_await answer_problem(turn_, &request_, std::move(finding));
    co_return;
  }
  if (ranges.size() > 1) {
    co_await send_multipart(ranges);
    co_return;
  }
  ResponseHead head = common_head(206, Coding::none);
  head.fields.emplace_back("Content-Type", type_);
  head.fields.emplace_back("Content-Range", http::content_range(ranges.front(), size_));
  head.length = ranges.front().length;
  turn_.writer().begin(head);
  co_await turn_.writer().body(std::string_view(), {found_.file.get(), ranges.front().offset, ranges.front().length});
  co_await turn_.writer().end();
}

asio::awaitable<void> FileResponse::send_multipart(const std::vector<http::ByteRange>& ranges) {
  // Unlikely enough to occur in the file (section 14.6 leaves the choice to the server).
  static thread_local std::mt19937_64 random{std::random_device{}()};
  const std::string boundary = fmt::format("part-{:016x}{:016x}", random(), random());
  std::vector<std::string> part_heads;
  const std::string end = fmt::format("\r\n--{}--\r\n", boundary);
  std::uint64_t length = end.size();
  for (const http::ByteRange& range : ranges) {
    part_heads.push_back(fmt::format("\r\n--{}\r\nContent-Type: {}\r\nContent-Range: {}\r\n\r\n", boundary, type_,
                                     http::content_range(range, size_)));
    length += part_heads.back().size() + range.length;
  }
  ResponseHead head = common_head(206, Coding::none);
  head.fields.emplace_back("Content-Type", "multipart/byteranges; boundary=" + boundary);
  head.length = length;
  Writer& writer = turn_.writer();
  writer.begin(head);
  bool goes_on = true;
  for (std::size_t i = 0; goes_on && i < ranges.size(); ++i)
    goes_on = co_await writer.body(part_heads[i], {found_.file.get(), ranges[i].offset, ranges[i].length});
  if (goes_on) co_await writer.body(end);
  co_await writer.end();
}

}  // namespace

asio::awaitable<void> answer_file(Turn& turn, const Request& request, sites::FileFound found) {
  FileResponse file(turn, request, std::move(found));
  co_await file.answer();
}

}  // namespace porter::server
