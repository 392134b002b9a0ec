// Formatting and writing the access log.
#include "server/record/access_log.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <ctime>
#include <iterator>
#include <utility>

#include "core/files/beneath.hpp"
#include "core/files/paths.hpp"
#include "core/text/text.hpp"
#include "server/record/patient_writer.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kMostAccessWaiting = 4 * 1024 * 1024;
constexpr std::chrono::milliseconds kGatherAccess{5};
/// How long the thread waits for a reader of a pipe before it looks whether it is to end.
constexpr std::chrono::milliseconds kAccessLookForEnd{100};
constexpr std::chrono::seconds kAccessPatienceAtEnd{1};

/// A text within quotes: what could end it or the line is escaped, and bytes that are not ASCII stay readable to all.
void append_quoted(std::string& out, std::string_view text) {
  out += '"';
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (byte < 0x20 || byte >= 0x7f) {
      fmt::format_to(std::back_inserter(out), "\\x{:02x}", byte);
    } else {
      out += c;
    }
  }
  out += '"';
}

void append_json_text(std::string& out, std::string_view text) {
  out += '"';
  for (const char c : text::to_utf8(text)) {
    if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (static_cast<unsigned char>(c) < 0x20) {
      fmt::format_to(std::back_inserter(out), "\\u{:04x}", static_cast<unsigned char>(c));
    } else {
      out += c;
    }
  }
  out += '"';
}

const FieldsForAccessLog& fields_of(const Exchange& exchange) {
  static const FieldsForAccessLog kNone;
  return exchange.fields ? *exchange.fields : kNone;
}

void append_common(std::string& out, const Exchange& line) {
  const std::time_t seconds = std::chrono::system_clock::to_time_t(line.time);
  std::tm local{};
  ::localtime_r(&seconds, &local);
  constexpr const char* kMonths[] = {"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                     "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};
  const long offset = local.tm_gmtoff / 60;
  const auto into = std::back_inserter(out);
  fmt::format_to(into, "{} - - [{:02}/{}/{}:{:02}:{:02}:{:02} {}{:02}{:02}] ", line.client, local.tm_mday,
                 kMonths[local.tm_mon], local.tm_year + 1900, local.tm_hour, local.tm_min, local.tm_sec,
                 offset < 0 ? '-' : '+', std::abs(offset) / 60, std::abs(offset) % 60);
  append_quoted(out, fmt::format("{} {} HTTP/1.{}", line.method, line.target, line.minor_version));
  fmt::format_to(into, " {} ", line.status);
  if (line.body_bytes > 0) {
    fmt::format_to(into, "{} ", line.body_bytes);
  } else {
    out += "- ";
  }
  const FieldsForAccessLog& fields = fields_of(line);
  append_quoted(out, fields.referrer.empty() ? std::string_view("-") : fields.referrer);
  out += ' ';
  append_quoted(out, fields.user_agent.empty() ? std::string_view("-") : fields.user_agent);
  out += '\n';
}

void append_json(std::string& out, const Exchange& line) {
  const auto millis = std::chrono::duration_cast<std::chrono::milliseconds>(line.time.time_since_epoch()).count();
  const std::time_t seconds = millis / 1000;
  std::tm utc{};
  ::gmtime_r(&seconds, &utc);
  const auto into = std::back_inserter(out);
  fmt::format_to(into,
                 R"({{"time":"{}-{:02}-{:02}T{:02}:{:02}:{:02}.{:03}Z","status":{},"bytes":{},"milliseconds":{:.3f})",
                 utc.tm_year + 1900, utc.tm_mon + 1, utc.tm_mday, utc.tm_hour, utc.tm_min, utc.tm_sec, millis % 1000,
                 line.status, line.body_bytes, std::chrono::duration<double, std::milli>(line.duration).count());
  using Text = std::pair<const char*, std::string_view>;
  for (const auto& [name, value] :
       {Text{"client", line.client}, Text{"host", fields_of(line).host},
        Text{"site", line.site ? std::string_view(*line.site) : std::string_view()}, Text{"method", line.method},
        Text{"target", line.target}, Text{"referrer", fields_of(line).referrer}, Text{"user_agent", fields_of(line).user_agent}}) {
    fmt::format_to(into, ",\"{}\":", name);
    append_json_text(out, value);
  }
  out += "}\n";
}

}  // namespace

void append_access_line(std::string& out, const Exchange& line, AccessLog::Format format) {
  format == AccessLog::Format::json ? append_json(out, line) : append_common(out, line);
}

AccessLogFile::AccessLogFile(AccessLog log) : log_(std::move(log)), thread_([this] { run(); }) {}

AccessLogFile::~AccessLogFile() {
  {
    const std::lock_guard lock(mutex_);
    finishing_ = true;
    give_up_ = std::chrono::steady_clock::now() + kAccessPatienceAtEnd;
  }
  changed_.notify_one();
  thread_.join();
}

void AccessLogFile::write(std::string_view lines) {
  {
    const std::lock_guard lock(mutex_);
    if (waiting_.size() + lines.size() > kMostAccessWaiting) {
      lost_ += static_cast<std::uint64_t>(std::count(lines.begin(), lines.end(), '\n'));
      return;
    }
    waiting_ += lines;
  }
  changed_.notify_one();
}

void AccessLogFile::reopen() {
  {
    const std::lock_guard lock(mutex_);
    reopening_ = true;
  }
  changed_.notify_one();
}

std::optional<Finding> AccessLogFile::problem() const {
  const std::lock_guard lock(mutex_);
  if (error_ == 0) return std::nullopt;
  return Finding{Code::log_unwritable,
                 {{"file", log_.file},
                  {"folder_quoted", text::shell_word(files::folder_of(log_.file))},
                  {"reason", files::describe({error_})},
                  {"lost", std::to_string(lost_)}}};
}

int AccessLogFile::put(std::string_view lines) {
  // A pipe without a reader is told as such (ENXIO) in place of being waited for.
  if (!file_.is_open())
    file_.reset(::open(log_.file.c_str(), O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC | O_NOCTTY | O_NONBLOCK, 0640));
  if (!file_.is_open()) return errno;
  const off_t before = ::lseek(file_.get(), 0, SEEK_END);
  PatientWriter writer(file_.get());
  std::size_t done = 0;
  while (done < lines.size()) {
    const auto written = writer.write(lines.substr(done), kAccessLookForEnd);
    done += written.bytes;
    if (written.error != 0) {
      // No part of a line stays behind. What is no file (a pipe) cannot be cut.
      const std::size_t whole = lines.substr(0, done).rfind('\n') + 1;
      [[maybe_unused]] const int cut = before < 0 ? 0 : ::ftruncate(file_.get(), before + static_cast<off_t>(whole));
      return written.error;
    }
    const std::lock_guard lock(mutex_);
    if (finishing_ && std::chrono::steady_clock::now() > give_up_) return ETIMEDOUT;
  }
  return 0;
}

void AccessLogFile::run() {
  std::string batch;
  for (bool last = false; !last;) {
    {
      std::unique_lock lock(mutex_);
      changed_.wait(lock, [this] { return finishing_ || reopening_ || !waiting_.empty(); });
      last = finishing_;
      batch.clear();
      batch.swap(waiting_);
      if (std::exchange(reopening_, false)) file_.reset();
    }
    if (!batch.empty()) {
      const int error = put(batch);
      const std::lock_guard lock(mutex_);
      error_ = error;
      if (error != 0) {
        lost_ += static_cast<std::uint64_t>(std::count(batch.begin(), batch.end(), '\n'));
        // It is opened anew for the next lines: by then it may be another one.
        file_.reset();
      }
    }
    if (!last) std::this_thread::sleep_for(kGatherAccess);
  }
}

}  // namespace porter::server
