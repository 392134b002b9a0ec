// The line that the journal shows for a request.
#pragma once

#include <chrono>
#include <cstdint>
#include <string>
#include <string_view>

namespace porter::server {

enum class Colour { off, on };

/// What is told of one request once it has been answered.
struct LogLine {
  std::chrono::system_clock::time_point time;  ///< When its head had arrived.
  std::string_view client;                     ///< Address of the client.
  std::string_view method;                     ///< As the client sent it; may hold anything, as may the next.
  std::string_view target;
  int status = 0;  ///< 0: the client left before an answer began.
  std::chrono::nanoseconds duration{0};
  std::uint64_t body_bytes = 0;   ///< Bytes of the answer's body that were sent.
  std::string_view site;          ///< Shown if it is not empty.
  std::uint32_t site_number = 0;  ///< Of the site among those of its snapshot, for whoever looks for its lines.
  std::string_view answered_by;   ///< "file", "listing", "PHP /srv/www/notices.php", …
};

/// Appends the line with its line feed to `out`. Whatever the client sent is escaped, so it cannot forge a line.
void append_log_line(std::string& out, const LogLine& line, Colour colour);

}  // namespace porter::server
