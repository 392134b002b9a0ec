// Reading the mark of a run (run/fresh/kin.hpp) where the system shows it.
#pragma once

#include <charconv>
#include <cstdint>
#include <string_view>
#include <system_error>

namespace porter::run {

/// The soft limit of the time of real-time scheduling in `limits`, what /proc/PID/limits holds; 0 if there is
/// none. It neither allocates nor locks, so a process that was forked off one with threads may call it.
inline std::uint64_t mark_in(std::string_view limits) {
  constexpr std::string_view kName = "Max realtime timeout";
  const std::size_t line = limits.find(kName);
  const std::size_t digits = line == limits.npos ? line : limits.find_first_not_of(' ', line + kName.size());
  std::uint64_t value = 0;
  if (digits != limits.npos) std::from_chars(limits.data() + digits, limits.data() + limits.size(), value);
  return value;
}

}  // namespace porter::run
