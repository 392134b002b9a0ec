// Body framing and the chunked transfer coding. See body.hpp.
#include "core/http/body.hpp"

#include <algorithm>
#include <charconv>

namespace porter::http {
namespace {

constexpr std::size_t kMostExtensionBytes = 1024;
constexpr std::size_t kMostTrailerBytes = 8 * 1024;

/// A decimal number and nothing else; no sign, no space.
bool read_length(std::string_view text, std::uint64_t& length) {
  if (text.empty() || text.front() < '0' || text.front() > '9') return false;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), length);
  return error == std::errc{} && end == text.data() + text.size() && length < (std::uint64_t{1} << 62);
}

}  // namespace

std::variant<BodyFraming, FramingError> body_framing(const RequestHead& head) {
  BodyFraming framing;
  bool has_coding = false;
  bool has_length = false;
  for (const Field& field : head.fields) {
    if (same_name(field.name, "Transfer-Encoding")) {
      if (has_coding || !same_name(field.value, "chunked")) return FramingError::unknown_coding;
      has_coding = true;
    } else if (same_name(field.name, "Content-Length")) {
      std::uint64_t length = 0;
      // Equal repeats are refused as well: whoever sends two has put the request together wrongly.
      if (has_length || !read_length(field.value, length)) return FramingError::bad_length;
      has_length = true;
      framing.length = length;
    }
  }
  if (has_coding && has_length) return FramingError::both;
  if (has_coding && head.minor_version == 0) return FramingError::coding_in_1_0;
  if (has_coding) framing.kind = BodyFraming::Kind::chunked;
  if (has_length) framing.kind = BodyFraming::Kind::length;
  if (head.bare_line_feeds && (has_coding || framing.length > 0)) return FramingError::body_with_bare_lines;
  return framing;
}

void ChunkReader::take_size_digit(char c) {
  std::uint64_t digit = 0;
  const char* const at = &c;
  if (std::from_chars(at, at + 1, digit, 16).ec != std::errc{}) {
    if (digits_ == 0) return fail();
    if (c == '\r') {
      step_ = Step::size_end;
    } else if (c == ';' || c == ' ' || c == '\t') {
      step_ = Step::extension;
      extras_ = 0;
    } else {
      fail();
    }
    return;
  }
  if (++digits_ > 15) return fail();
  left_ = left_ * 16 + digit;
}

void ChunkReader::take(char c) {
  switch (step_) {
    case Step::size:
      return take_size_digit(c);
    case Step::extension:
      if (c == '\r') {
        step_ = Step::size_end;
      } else if (c == '\n' || c == '\0' || ++extras_ > kMostExtensionBytes) {
        fail();
      }
      return;
    case Step::size_end:
      if (c != '\n') return fail();
      digits_ = 0;
      extras_ = 0;
      step_ = left_ > 0 ? Step::data : Step::trailer_start;
      return;
    case Step::data:
      return;  // read() takes whole runs of data itself.
    case Step::data_cr:
      return c == '\r' ? void(step_ = Step::data_lf) : fail();
    case Step::data_lf:
      return c == '\n' ? void(step_ = Step::size) : fail();
    case Step::trailer_start:
      if (c == '\r') {
        step_ = Step::end;
        return;
      }
      if (c == '\n' || c == ' ' || c == '\t') return fail();
      step_ = Step::trailer;
      [[fallthrough]];
    case Step::trailer:
      if (c == '\r') {
        step_ = Step::trailer_end;
      } else if (c == '\n' || c == '\0' || ++extras_ > kMostTrailerBytes) {
        fail();
      }
      return;
    case Step::trailer_end:
      return c == '\n' ? void(step_ = Step::trailer_start) : fail();
    case Step::end:
      return c == '\n' ? void(state_ = State::done) : fail();
  }
}

std::size_t ChunkReader::read(std::string_view input, std::string& body) {
  std::size_t used = 0;
  while (used < input.size() && state_ == State::more) {
    if (step_ == Step::data) {
      const auto run = static_cast<std::size_t>(std::min<std::uint64_t>(left_, input.size() - used));
      body.append(input.substr(used, run));
      used += run;
      left_ -= run;
      if (left_ == 0) step_ = Step::data_cr;
      continue;
    }
    take(input[used]);
    ++used;
  }
  return used;
}

}  // namespace porter::http
