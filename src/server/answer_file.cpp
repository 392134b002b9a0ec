// Sending a file.
#include <unistd.h>

#include <cerrno>

#include "core/http/date.hpp"
#include "core/http/media_type.hpp"
#include "server/answer.hpp"

namespace porter::server {
namespace {

constexpr std::uint64_t kSendWithHead = 64 * 1024;

/// The first `size` bytes of `file`; fewer if it has become shorter.
std::string read_whole(int file, std::size_t size) {
  std::string content(size, '\0');
  std::size_t at = 0;
  while (at < size) {
    const ssize_t got = ::pread(file, content.data() + at, size - at, static_cast<off_t>(at));
    if (got < 0 && errno == EINTR) continue;
    if (got <= 0) break;
    at += static_cast<std::size_t>(got);
  }
  content.resize(at);
  return content;
}

std::string_view base_name(std::string_view path) { return path.substr(path.rfind('/') + 1); }

}  // namespace

asio::awaitable<void> answer_file(Connection& connection, const Request& request, sites::FileFound found) {
  connection.answered().by = "file";
  AnswerHead head;
  const auto size = static_cast<std::uint64_t>(found.info.st_size);
  head.fields = {{"Content-Type", http::media_type(base_name(found.path), connection.worker().shared().system_types)},
                 {"Last-Modified", http::format_date(found.info.st_mtim.tv_sec)},
                 // So that a reload after an edit always shows the edit.
                 {"Cache-Control", "no-cache"}};
  connection.answered().status = head.status;
  if (size <= kSendWithHead && !request.is_head()) {
    std::string content = read_whole(found.file.get(), static_cast<std::size_t>(size));
    co_await answer_page(connection, &request, std::move(head), std::move(content));
    co_return;
  }
  head.length = size;
  bool sent = co_await connection.send(write_head(connection, head, request.head.minor_version));
  if (sent && !request.is_head()) sent = co_await connection.send_file(found.file.get(), 0, size);
  if (!sent) connection.close_after_answer();
}

}  // namespace porter::server
