// What differs between two answers: two exchanges, one of a HAR, or a script's source beside what it printed.
#pragma once

#include <nlohmann/json_fwd.hpp>
#include <string>
#include <utility>
#include <vector>

#include "core/exchange/recorded.hpp"

namespace porter::exchange {

/// One of the two that are compared.
struct Side {
  std::string name;      ///< As it is called: "12", "good.har#1", "tides.pl".
  bool is_file = false;  ///< A file, which has a page alone.
  int status = 0;
  std::vector<std::pair<std::string, std::string>> fields;
  std::string type;  ///< The page's media type.
  std::string page;  ///< Decoded.
  double milliseconds = 0;
  std::vector<Run> runs;
};

/// Bytes of a page that are compared at most.
inline constexpr std::uint64_t kMostCompared = 64ULL * 1024 * 1024;

Side side_of(const Recorded& exchange);

/// What differs, as docs/control.openapi.yaml describes it. "alike" is true if the status, the fields that can be
/// compared, the page, and how the runs ended are the same.
nlohmann::json difference(const Side& left, const Side& right);

}  // namespace porter::exchange
