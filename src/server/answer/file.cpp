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
#include "server/answer/answer.hpp"
#include "server/answer/gzip.hpp"

namespace porter::server {
namespace {

constexpr std::uint64_t kCompressFrom = 1024;
constexpr std::size_t kPiece = 64 * 1024;
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
class FileAnswer {
 public:
  FileAnswer(Connection& connection, const Request& request, sites::FileFound found)
      : connection_(connection),
        request_(request),
        found_(std::move(found)),
        size_(static_cast<std::uint64_t>(found_.info.st_size)),
        now_(std::time(nullptr)) {
    type_ = http::media_type(files::base_name(found_.path), connection.worker().shared().system_types);
    // A date ahead of the answer's own would be no date of a change (RFC 9110, section 8.8.2.1).
    validators_ = {entity_tag(found_.info), std::min<std::int64_t>(found_.info.st_mtim.tv_sec, now_)};
    is_compressible_ = size_ > kCompressFrom && http::compresses_well(type_);
  }

  asio::awaitable<void> answer();

 private:
  using Fields = std::vector<std::pair<std::string_view, std::string>>;

  /// The fields that a 200, a 206 and a 304 answer have in common.
  Fields common_fields(Coding coding) const;
  Fields whole_fields(Coding coding) const;
  asio::awaitable<void> send_head_only(int status, Fields fields);
  asio::awaitable<void> send_whole();
  asio::awaitable<void> send_small(Coding coding);
  asio::awaitable<void> send_compressed();
  asio::awaitable<void> send_ranges(const std::vector<http::ByteRange>& ranges);
  asio::awaitable<bool> send_multipart(const std::vector<http::ByteRange>& ranges, AnswerHead head);
  std::string head_text(const AnswerHead& head) { return write_head(connection_, head, request_.head.minor_version); }
  bool may_be_kept() const;
  CachedFile make_cached() const;
  /// Tells the cache that the file was judged again, also where it is not sent.
  void renew() {
    std::string space;
    const auto path = may_be_kept() ? plain_path(request_.target.raw_path, space) : std::nullopt;
    if (path) connection_.files().renew(connection_.site_number(), *path, found_.info, connection_.answered().begun);
  }
  void keep(CachedFile cached) {
    std::string space;
    if (const auto path = plain_path(request_.target.raw_path, space))
      connection_.files().keep(connection_.site_number(), *path, std::move(cached), connection_.answered().begun);
  }

  Connection& connection_;
  const Request& request_;
  sites::FileFound found_;
  std::uint64_t size_;
  std::int64_t now_;
  std::string type_;
  http::Validators validators_;
  bool is_compressible_ = false;
};

FileAnswer::Fields FileAnswer::common_fields(Coding coding) const {
  Fields fields = {{"ETag", coding == Coding::gzip ? weak_tag(validators_.etag) : validators_.etag},
                   {"Last-Modified", http::format_date(validators_.modified)}};
  bool says_how_long = false;
  for (const auto& [name, value] : connection_.site().answer_fields) {
    const bool is_ours = http::same_name(name, "ETag") || http::same_name(name, "Last-Modified");
    if (!is_ours && !http::same_name(name, "Content-Type")) fields.emplace_back(name, value);
    says_how_long = says_how_long || http::same_name(name, "Cache-Control");
  }
  // So that a reload after an edit always shows the edit.
  if (!says_how_long) fields.emplace_back("Cache-Control", "no-cache");
  if (is_compressible_) fields.emplace_back("Vary", "Accept-Encoding");
  return fields;
}

FileAnswer::Fields FileAnswer::whole_fields(Coding coding) const {
  Fields fields = common_fields(coding);
  fields.emplace_back("Content-Type", type_);
  if (coding == Coding::gzip) {
    fields.emplace_back("Content-Encoding", "gzip");
  } else {
    fields.emplace_back("Accept-Ranges", "bytes");
  }
  return fields;
}

asio::awaitable<void> FileAnswer::answer() {
  connection_.answered().by = "file";
  renew();
  const http::Verdict verdict = http::evaluate_conditions(request_.head, validators_, now_);
  if (verdict == http::Verdict::not_modified) {
    co_await send_head_only(304, common_fields(Coding::none));
    co_return;
  }
  if (verdict == http::Verdict::precondition_failed) {
    const bool by_tag = request_.head.field("If-Match").has_value();
    Finding finding{Code::precondition_failed, {}};
    finding.facts.emplace_back("condition", by_tag ? "If-Match" : "If-Unmodified-Since");
    finding.facts.emplace_back("file", found_.path);
    co_await answer_problem(connection_, &request_, std::move(finding), {});
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

asio::awaitable<void> FileAnswer::send_head_only(int status, Fields fields) {
  AnswerHead head;
  head.status = status;
  head.fields = std::move(fields);
  co_await answer_page(connection_, &request_, std::move(head), {});
}

asio::awaitable<void> FileAnswer::send_whole() {
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
  AnswerHead head;
  head.fields = whole_fields(Coding::none);
  head.length = size_;
  connection_.answered().status = head.status;
  const std::string text = head_text(head);
  bool sent = false;
  if (request_.is_head()) {
    sent = co_await connection_.send(text);
  } else {
    sent = co_await connection_.send_with_file(text, found_.file.get(), 0, size_);
  }
  if (!sent) {
    connection_.close_after_answer();
  } else if (may_be_kept()) {
    CachedFile cached = make_cached();
    cached.file = std::move(found_.file);
    keep(std::move(cached));
  }
}

asio::awaitable<void> FileAnswer::send_small(Coding coding) {
  std::string content = read_part(found_.file.get(), 0, static_cast<std::size_t>(size_));
  struct stat after {};
  const bool is_steady =
      content.size() == size_ && ::fstat(found_.file.get(), &after) == 0 && files::same_state(after, found_.info);
  AnswerHead head;
  head.fields = whole_fields(coding);
  if (!is_steady) {
    // It was written to meanwhile: what was read is sent, but neither kept nor given a name.
    std::erase_if(head.fields,
                  [](const auto& field) { return field.first == "ETag" || field.first == "Last-Modified"; });
  } else if (may_be_kept()) {
    CachedFile cached = make_cached();
    cached.content = content;
    keep(std::move(cached));
  }
  if (coding == Coding::gzip) content = gzip(content);
  co_await answer_page(connection_, &request_, std::move(head), std::move(content));
}

bool FileAnswer::may_be_kept() const { return found_.stands_first && request_.target.form == http::TargetForm::origin; }

CachedFile FileAnswer::make_cached() const {
  CachedFile cached;
  cached.path = found_.path;
  cached.info = found_.info;
  cached.validators = validators_;
  cached.is_compressible = is_compressible_;
  const auto text = [](const Fields& fields) {
    std::string out;
    for (const auto& [name, value] : fields) fmt::format_to(std::back_inserter(out), "{}: {}\r\n", name, value);
    return out;
  };
  cached.fields = text(whole_fields(Coding::none)) + fmt::format("Content-Length: {}\r\n", size_);
  cached.gzip_fields = text(whole_fields(Coding::gzip));
  cached.kept_fields = text(common_fields(Coding::none));
  return cached;
}

asio::awaitable<void> FileAnswer::send_compressed() {
  AnswerHead head;
  head.fields = whole_fields(Coding::gzip);
  head.chunked = request_.head.minor_version == 1;
  if (!head.chunked) connection_.close_after_answer();
  connection_.answered().status = head.status;
  bool sent = co_await connection_.send(head_text(head));
  if (request_.is_head() || !sent) co_return;
  Gzip stream;
  std::string out;
  auto resumed = Connection::Clock::now();
  for (std::uint64_t at = 0; sent && at < size_; at += kPiece) {
    const auto wanted = static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, size_ - at));
    const std::string piece = read_part(found_.file.get(), at, wanted);
    sent = piece.size() == wanted;
    const bool last = at + wanted == size_;
    if (sent) stream.add(piece, last ? Gzip::More::no : Gzip::More::yes, out);
    // Compressing takes its time, and others have requests too; but pausing after each piece would only mix them up.
    if (Connection::Clock::now() - resumed > kCompressAtOnce) {
      co_await asio::post(connection_.executor(), asio::use_awaitable);
      resumed = Connection::Clock::now();
    }
    if (!sent || out.empty()) continue;
    connection_.answered().body_bytes += out.size();
    std::string chunk_head;
    if (head.chunked) {
      chunk_head = fmt::format("{:x}\r\n", out.size());
      out += last ? "\r\n0\r\n\r\n" : "\r\n";
    }
    sent = co_await connection_.send(chunk_head, out);
    out.clear();
  }
  if (!sent) connection_.close_after_answer();
}

asio::awaitable<void> FileAnswer::send_ranges(const std::vector<http::ByteRange>& ranges) {
  if (ranges.empty()) {
    Finding finding{Code::range_not_satisfiable, {}};
    finding.facts.emplace_back("range", std::string(*request_.head.field("Range")));
    finding.facts.emplace_back("file", found_.path);
    finding.facts.emplace_back("size", std::to_string(size_));
    co_await answer_problem(connection_, &request_, std::move(finding), {});
    co_return;
  }
  AnswerHead head;
  head.status = 206;
  head.fields = common_fields(Coding::none);
  connection_.answered().status = head.status;
  bool sent = false;
  if (ranges.size() > 1) {
    sent = co_await send_multipart(ranges, std::move(head));
  } else {
    head.fields.emplace_back("Content-Type", type_);
    head.fields.emplace_back("Content-Range", http::content_range(ranges.front(), size_));
    head.length = ranges.front().length;
    const std::string text = head_text(head);
    sent = co_await connection_.send_with_file(text, found_.file.get(), ranges.front().offset, ranges.front().length);
  }
  if (!sent) connection_.close_after_answer();
}

asio::awaitable<bool> FileAnswer::send_multipart(const std::vector<http::ByteRange>& ranges, AnswerHead head) {
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
  head.fields.emplace_back("Content-Type", "multipart/byteranges; boundary=" + boundary);
  head.length = length;
  bool sent = co_await connection_.send(head_text(head));
  for (std::size_t i = 0; sent && i < ranges.size(); ++i) {
    sent = co_await connection_.send_with_file(part_heads[i], found_.file.get(), ranges[i].offset, ranges[i].length);
  }
  if (sent) sent = co_await connection_.send(end);
  co_return sent;
}

}  // namespace

asio::awaitable<void> answer_file(Connection& connection, const Request& request, sites::FileFound found) {
  FileAnswer file(connection, request, std::move(found));
  co_await file.answer();
}

}  // namespace porter::server
