// See base64.hpp.
#include "core/exchange/base64.hpp"

#include <array>

namespace porter::exchange {
namespace {

constexpr std::string_view kLetters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";

}  // namespace

std::string to_base64(std::string_view bytes) {
  std::string out;
  out.reserve((bytes.size() + 2) / 3 * 4);
  for (std::size_t at = 0; at < bytes.size(); at += 3) {
    const std::string_view three = bytes.substr(at, 3);
    std::uint32_t bits = 0;
    for (std::size_t i = 0; i < 3; ++i)
      bits = bits << 8 | (i < three.size() ? static_cast<unsigned char>(three[i]) : 0U);
    for (std::size_t i = 0; i < 4; ++i) out += i <= three.size() ? kLetters[bits >> (18 - 6 * i) & 63] : '=';
  }
  return out;
}

std::optional<std::string> from_base64(std::string_view text) {
  std::string out;
  std::uint32_t bits = 0;
  int count = 0;
  std::size_t letters = 0;
  while (text.ends_with('=') && letters < 2) {
    text.remove_suffix(1);
    ++letters;
  }
  for (const char letter : text) {
    if (letter == '\n' || letter == '\r') continue;
    const std::size_t value = kLetters.find(letter);
    if (value == kLetters.npos) return std::nullopt;
    bits = bits << 6 | static_cast<std::uint32_t>(value);
    count += 6;
    if (count < 8) continue;
    count -= 8;
    out += static_cast<char>(bits >> count & 255);
  }
  return out;
}

}  // namespace porter::exchange
