// Limits by name.
#include "core/settings/settings.hpp"

#include <array>
#include <variant>

namespace porter {
namespace {

using Place = std::variant<std::size_t Limits::*, std::chrono::seconds Limits::*, std::size_t http::HeadLimits::*>;

struct Row {
  std::string_view name;
  Place place;
  std::uint64_t least;
  std::uint64_t most;
};

constexpr std::uint64_t kDay = 86400;
constexpr std::uint64_t kTebibyte = 1ULL << 40;

const std::array<Row, 18> kRows = {{
    {"request-line", &http::HeadLimits::request_line, 64, 1 << 20},
    {"head", &http::HeadLimits::head, 256, 1 << 24},
    {"fields", &http::HeadLimits::fields, 1, 10000},
    {"body", &Limits::body, 0, kTebibyte},
    {"head-time", &Limits::head_time, 1, kDay},
    {"body-pause", &Limits::body_pause, 1, kDay},
    {"idle-time", &Limits::idle_time, 1, kDay},
    {"connections", &Limits::connections, 1, 1000000},
    {"first-byte", &Limits::first_byte, 1, kDay},
    {"answer-head", &Limits::answer_head, 64, 1 << 24},
    {"error-stream", &Limits::error_stream, 256, 1 << 24},
    {"total-time", &Limits::total_time, 1, kDay},
    {"address-space", &Limits::address_space, 1 << 24, kTebibyte},
    {"processor-time", &Limits::processor_time, 1, kDay},
    {"open-files", &Limits::open_files, 16, 1 << 20},
    {"runs", &Limits::runs, 0, 10000},
    {"queue", &Limits::queue, 0, 100000},
    {"stop-time", &Limits::stop_time, 0, kDay},
}};

}  // namespace

bool set_limit(Limits& limits, std::string_view name, std::uint64_t value) {
  for (const Row& row : kRows) {
    if (row.name != name) continue;
    if (value < row.least || value > row.most) return false;
    if (const auto* const bytes = std::get_if<std::size_t Limits::*>(&row.place)) limits.*(*bytes) = value;
    if (const auto* const head = std::get_if<std::size_t http::HeadLimits::*>(&row.place)) limits.head.*(*head) = value;
    if (const auto* const time = std::get_if<std::chrono::seconds Limits::*>(&row.place))
      limits.*(*time) = std::chrono::seconds(value);
    return true;
  }
  return false;
}

std::string limit_names() {
  std::string out;
  for (const Row& row : kRows) {
    if (!out.empty()) out += ' ';
    out += row.name;
  }
  return out;
}

}  // namespace porter
