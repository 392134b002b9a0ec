// The line by which the log shows an exchange to people.
#pragma once

#include <string>
#include <string_view>

#include "server/record/exchange.hpp"

namespace porter::server {

enum class Colour { off, on };

/// Appends the line with its line feed to `out`. Whatever the client sent is escaped, so it cannot forge a line.
void append_log_line(std::string& out, const Exchange& exchange, Colour colour);

/// What answered, with its findings, as the line has it but for scripts, whose whole path is told: "file", "php-cgi
/// /srv/www/notices.php; script-error: …".
std::string answered_by(const Exchange& exchange);

}  // namespace porter::server
