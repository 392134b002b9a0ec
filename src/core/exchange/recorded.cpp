// See recorded.hpp.
#include "core/exchange/recorded.hpp"

#include <string>

namespace porter::exchange {

std::uint64_t Wire::kept() const {
  std::uint64_t kept = bytes.size();
  for (const FileSlice& slice : slices) kept += slice.length;
  return kept;
}

bool is_status_filter(std::string_view wanted) {
  const auto is_digit = [](char c) { return c >= '0' && c <= '9'; };
  if (wanted.size() != 3 || !is_digit(wanted[0])) return false;
  return wanted.substr(1) == "xx" || (is_digit(wanted[1]) && is_digit(wanted[2]));
}

bool status_passes(int status, std::string_view wanted) {
  if (wanted.empty()) return true;
  if (wanted.ends_with("xx")) return status / 100 == wanted[0] - '0';
  return std::to_string(status) == wanted;
}

}  // namespace porter::exchange
