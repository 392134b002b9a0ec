// What a monitor asks for: how many requests, how long they took, what they moved and what was wrong, since the start.
// Told as OpenMetrics text (OpenMetrics 1.0).
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <mutex>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "core/findings/finding.hpp"
#include "server/record/exchange.hpp"

namespace porter::server {

/// One family of samples, as it is written.
class MetricFamily {
 public:
  /// `unit` is the end of `name` as well, as the specification wants it, or empty.
  MetricFamily(std::string& out, std::string_view name, std::string_view type, std::string_view unit,
               std::string_view help);
  using Labels = std::vector<std::pair<std::string_view, std::string_view>>;
  /// A sample called as the family and `suffix` ("_total", "_bucket", or nothing).
  void add(std::string_view suffix, const Labels& labels, std::uint64_t value);
  void add(std::string_view suffix, const Labels& labels, double value);

 private:
  void begin(std::string_view suffix, const Labels& labels);

  std::string& out_;
  const std::string name_;
};

/// What is counted. From any thread.
class Metrics {
 public:
  /// These exchanges are over.
  void count(const std::vector<Exchange>& exchanges);
  /// Settings were read again, and are served by, or were refused.
  void count_reload(bool is_applied);
  /// Adds the families of all that was counted to `out`.
  void write(std::string& out);

 private:
  /// Seconds, the upper bounds of the buckets; one more has all that took longer.
  static constexpr std::array<double, 14> kBounds = {0.0005, 0.001, 0.0025, 0.005, 0.01, 0.025, 0.05,
                                                     0.1,    0.25,  0.5,    1,     2.5,  10,    30};
  struct OfSite {
    std::array<std::uint64_t, 6> by_status{};  ///< By the hundreds; 0: the client left before there was one.
    std::array<std::uint64_t, kBounds.size() + 1> by_time{};
    double seconds = 0;
    std::uint64_t received = 0;
    std::uint64_t sent = 0;
  };

  std::mutex mutex_;
  std::map<std::string, OfSite, std::less<>> sites_;                   // Guarded by mutex_, as is what follows.
  std::map<std::pair<std::string, std::string>, std::uint64_t> runs_;  ///< By language and way.
  std::map<Code, std::uint64_t> findings_;
  std::uint64_t applied_ = 0;
  std::uint64_t refused_ = 0;
};

}  // namespace porter::server
