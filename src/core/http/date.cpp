// HTTP dates, by the calendar of std::chrono, so that no locale and no time zone of the machine has a say.
#include "core/http/date.hpp"

#include <array>
#include <charconv>
#include <chrono>
#include <cstdio>

namespace porter::http {
namespace {

constexpr std::array<std::string_view, 7> kDays = {"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"};
constexpr std::array<std::string_view, 12> kMonths = {"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                                      "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};

/// Reads a date from its front to its end; once a step has failed, all later ones do nothing.
class Cursor {
 public:
  explicit Cursor(std::string_view text) : text_(text) {}

  Cursor& literal(std::string_view expected) {
    if (text_.substr(0, expected.size()) != expected) ok_ = false;
    if (ok_) text_.remove_prefix(expected.size());
    return *this;
  }
  Cursor& number(std::size_t width, int& out) {
    if (text_.size() < width) ok_ = false;
    if (!ok_) return *this;
    const auto [end, error] = std::from_chars(text_.data(), text_.data() + width, out);
    if (error != std::errc{} || end != text_.data() + width || text_.front() == '-') ok_ = false;
    text_.remove_prefix(width);
    return *this;
  }
  /// A day of the month padded with a space, as asctime() writes it.
  Cursor& padded_number(int& out) {
    if (!text_.empty() && text_.front() == ' ') return literal(" ").number(1, out);
    return number(2, out);
  }
  Cursor& month(unsigned& out) {
    for (unsigned i = 0; i < kMonths.size(); ++i)
      if (text_.substr(0, 3) == kMonths[i]) {
        out = i + 1;
        text_.remove_prefix(3);
        return *this;
      }
    ok_ = false;
    return *this;
  }
  Cursor& time(int& hour, int& minute, int& second) {
    return number(2, hour).literal(":").number(2, minute).literal(":").number(2, second);
  }
  bool finished() const { return ok_ && text_.empty(); }

 private:
  std::string_view text_;
  bool ok_ = true;
};

std::optional<std::int64_t> to_seconds(int year, unsigned month, int day, int hour, int minute, int second) {
  const std::chrono::year_month_day date{std::chrono::year{year}, std::chrono::month{month},
                                         std::chrono::day{static_cast<unsigned>(day)}};
  if (!date.ok() || hour > 23 || minute > 59 || second > 60) return std::nullopt;
  const auto days = std::chrono::sys_days{date}.time_since_epoch();
  return std::chrono::duration_cast<std::chrono::seconds>(days).count() + hour * 3600 + minute * 60 + second;
}

}  // namespace

std::string format_date(std::int64_t seconds) {
  const std::chrono::sys_seconds time{std::chrono::seconds{seconds}};
  const auto day = std::chrono::floor<std::chrono::days>(time);
  const std::chrono::year_month_day date{day};
  const auto rest = (time - day).count();
  std::array<char, 64> out{};
  const int length =
      std::snprintf(out.data(), out.size(), "%s, %02u %s %04d %02d:%02d:%02d GMT",
                    kDays[std::chrono::weekday{day}.c_encoding()].data(), static_cast<unsigned>(date.day()),
                    kMonths[static_cast<unsigned>(date.month()) - 1].data(), static_cast<int>(date.year()),
                    static_cast<int>(rest / 3600), static_cast<int>(rest / 60 % 60), static_cast<int>(rest % 60));
  return {out.data(), static_cast<std::size_t>(length)};
}

std::optional<std::int64_t> parse_date(std::string_view text, std::int64_t now) {
  int year = 0, day = 0, hour = 0, minute = 0, second = 0;
  unsigned month = 0;
  const std::size_t comma = text.find(',');
  if (comma == 3) {
    Cursor cursor(text.substr(comma));
    cursor.literal(", ").number(2, day).literal(" ").month(month).literal(" ").number(4, year).literal(" ");
    if (!cursor.time(hour, minute, second).literal(" GMT").finished()) return std::nullopt;
    return to_seconds(year, month, day, hour, minute, second);
  }
  if (comma != text.npos) {
    Cursor cursor(text.substr(comma));
    cursor.literal(", ").number(2, day).literal("-").month(month).literal("-").number(2, year).literal(" ");
    if (!cursor.time(hour, minute, second).literal(" GMT").finished()) return std::nullopt;
    // A two-digit year that would lie more than 50 years ahead is the most recent past one with these digits.
    const std::chrono::year_month_day today{
        std::chrono::floor<std::chrono::days>(std::chrono::sys_seconds{std::chrono::seconds{now}})};
    const int this_year = static_cast<int>(today.year());
    year += this_year / 100 * 100;
    if (year > this_year + 50) year -= 100;
    return to_seconds(year, month, day, hour, minute, second);
  }
  if (text.size() < 4) return std::nullopt;
  Cursor cursor(text.substr(3));
  cursor.literal(" ").month(month).literal(" ").padded_number(day).literal(" ");
  if (!cursor.time(hour, minute, second).literal(" ").number(4, year).finished()) return std::nullopt;
  return to_seconds(year, month, day, hour, minute, second);
}

}  // namespace porter::http
