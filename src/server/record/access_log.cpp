// Formatting the access log, and having it written: spdlog carries the lines to a thread of its own.
#include "server/record/access_log.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <spdlog/async_logger.h>
#include <spdlog/details/thread_pool.h>
#include <spdlog/sinks/base_sink.h>
#include <spdlog/sinks/rotating_file_sink.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
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
constexpr std::size_t kMostMessages = 4096;
/// Messages that tell the thread something, and those of workers that have all looked at the bound at once.
constexpr std::size_t kRoomForCommands = 128;
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

enum class Referrers { told, left_out };

void append_common(std::string& out, const Exchange& line, Referrers referrers) {
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
  if (referrers == Referrers::left_out) {
    out.back() = '\n';
    return;
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
        Text{"target", line.target}, Text{"referrer", fields_of(line).referrer},
        Text{"user_agent", fields_of(line).user_agent}}) {
    fmt::format_to(into, ",\"{}\":", name);
    append_json_text(out, value);
  }
  out += "}\n";
}

}  // namespace

void append_access_line(std::string& out, const Exchange& line, AccessLog::Format format) {
  if (format == AccessLog::Format::json) return append_json(out, line);
  append_common(out, line, format == AccessLog::Format::combined ? Referrers::told : Referrers::left_out);
}

/// Where the lines end: a file that is opened when it is needed, and again after an error; it gives way to a new one
/// when it has become large. Its lock is that of the base.
class AccessLogFile::Sink final : public spdlog::sinks::base_sink<std::mutex> {
 public:
  explicit Sink(const AccessLog& log) : path_(log.file) { take_bounds(log); }

  const std::string& path() const { return path_; }
  void take_bounds(const AccessLog& log) {
    largest_ = log.largest;
    older_ = log.older;
  }

  /// Takes note of a message that is on its way here. False: too much is on its way.
  bool expect(std::size_t bytes) {
    if (waiting_bytes_.fetch_add(bytes) + bytes <= kMostAccessWaiting && waiting_.load() < kMostMessages) {
      ++waiting_;
      return true;
    }
    waiting_bytes_ -= bytes;
    return false;
  }
  void lose(std::string_view lines) {
    lost_ += static_cast<std::uint64_t>(std::count(lines.begin(), lines.end(), '\n'));
  }
  /// False: it is to be opened anew already.
  bool reopen() { return !is_to_reopen_.exchange(true); }
  void finish() {
    give_up_ = Clock::now() + kAccessPatienceAtEnd;
    is_finishing_ = true;
  }
  std::optional<Finding> problem() const {
    const int error = error_;
    if (error == 0) return std::nullopt;
    return Finding{Code::log_unwritable,
                   {{"file", path_},
                    {"folder_quoted", text::shell_word(files::folder_of(path_))},
                    {"reason", files::describe({error})},
                    {"lost", std::to_string(lost_)}}};
  }

 protected:
  void sink_it_(const spdlog::details::log_msg& message) override {
    const std::string_view lines(message.payload.data(), message.payload.size());
    flush_();
    const int error = put(lines);
    waiting_bytes_ -= lines.size();
    --waiting_;
    error_ = error;
    if (error == 0) return;
    lose(lines);
    // It is opened anew for the next lines: by then it may be another one.
    file_.reset();
  }
  void flush_() override {
    if (is_to_reopen_.exchange(false)) file_.reset();
  }

 private:
  using Clock = std::chrono::steady_clock;

  bool open() {
    // A pipe without a reader is told as such (ENXIO) in place of being waited for.
    file_.reset(::open(path_.c_str(), O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC | O_NOCTTY | O_NONBLOCK, 0640));
    return file_.is_open();
  }

  bool is_given_up() const { return is_finishing_ && Clock::now() > give_up_.load(); }

  /// "access.log" becomes "access.1.log", which becomes "access.2.log"; the oldest goes.
  void make_room() {
    const auto older = [&](std::size_t number) {
      return spdlog::sinks::rotating_file_sink_st::calc_filename(path_, number);
    };
    const std::size_t kept = older_;
    if (kept == 0) {
      ::unlink(path_.c_str());
    } else {
      for (std::size_t number = kept; number > 0; --number) ::rename(older(number - 1).c_str(), older(number).c_str());
    }
    file_.reset();
  }

  /// Writes all of `lines`; errno if that failed.
  int put(std::string_view lines) {
    if (is_given_up()) return ETIMEDOUT;
    if (!file_.is_open() && !open()) return errno;
    struct stat info {};
    const bool is_regular = ::fstat(file_.get(), &info) == 0 && S_ISREG(info.st_mode);
    if (is_regular && info.st_size > 0 && static_cast<std::uint64_t>(info.st_size) + lines.size() > largest_) {
      make_room();
      info.st_size = 0;
      if (!open()) return errno;
    }
    PatientWriter writer(file_.get());
    std::size_t done = 0;
    while (done < lines.size()) {
      const auto written = writer.write(lines.substr(done), kAccessLookForEnd);
      done += written.bytes;
      if (written.error != 0) {
        // No part of a line stays behind. What is no file (a pipe) cannot be cut.
        const std::size_t whole = lines.substr(0, done).rfind('\n') + 1;
        if (is_regular) [[maybe_unused]]
          const int cut = ::ftruncate(file_.get(), info.st_size + static_cast<off_t>(whole));
        return written.error;
      }
      if (is_given_up()) return ETIMEDOUT;
    }
    return 0;
  }

  const std::string path_;
  std::atomic<std::uint64_t> largest_{0};
  std::atomic<std::size_t> older_{0};
  std::atomic<std::size_t> waiting_{0};
  std::atomic<std::size_t> waiting_bytes_{0};
  std::atomic<bool> is_to_reopen_{false};
  std::atomic<bool> is_finishing_{false};
  std::atomic<int> error_{0};
  std::atomic<std::uint64_t> lost_{0};
  std::atomic<Clock::time_point> give_up_{};  ///< When what is left is not written any more.
  files::Descriptor file_;
};

/// What writes to a file: its sink, and the thread that carries lines there.
struct AccessLogFile::Writing {
  explicit Writing(const AccessLog& log)
      : sink(std::make_shared<Sink>(log)),
        // Its memory is taken at once. A little larger than what may be on its way, so that handing over never waits.
        thread(std::make_shared<spdlog::details::thread_pool>(kMostMessages + kRoomForCommands, 1)),
        logger(std::make_shared<spdlog::async_logger>("access", sink, thread)) {}
  ~Writing() {
    sink->finish();
    logger.reset();
    // Its end is that of the thread, which handles what is left first.
    thread.reset();
  }
  Writing(const Writing&) = delete;
  Writing& operator=(const Writing&) = delete;

  std::shared_ptr<Sink> sink;
  std::shared_ptr<spdlog::details::thread_pool> thread;
  std::shared_ptr<spdlog::async_logger> logger;
};

AccessLogFile::AccessLogFile(AccessLog log, const AccessLogFile* before) : log_(std::move(log)) {
  if (before != nullptr && before->log_.file == log_.file) {
    writing_ = before->writing_;
    writing_->sink->take_bounds(log_);
  } else {
    writing_ = std::make_shared<Writing>(log_);
  }
}

AccessLogFile::~AccessLogFile() = default;

void AccessLogFile::write(std::string_view lines) {
  if (!writing_->sink->expect(lines.size())) return writing_->sink->lose(lines);
  writing_->logger->log(spdlog::level::info, spdlog::string_view_t(lines.data(), lines.size()));
}

void AccessLogFile::reopen() {
  // One message that says so is enough, however often it is asked for while nobody takes the lines.
  if (writing_->sink->reopen()) writing_->logger->flush();
}

std::optional<Finding> AccessLogFile::problem() const { return writing_->sink->problem(); }

}  // namespace porter::server
