// Case of ASCII letters, which is all the case that protocols know; the machine's locale has no say.
#pragma once

namespace porter::text {

constexpr char ascii_lower(char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c; }

}  // namespace porter::text
