// Writing and reading records. See records.hpp.
#include "core/fastcgi/records.hpp"

#include <algorithm>

#include "core/text/text.hpp"

namespace porter::fastcgi {
namespace {

constexpr char kVersion = 1;
constexpr char kResponder = 1;
constexpr char kKeepConnection = 1;
constexpr std::size_t kBodySize = 8;     ///< Of the records that begin and end a request.
constexpr std::size_t kMostLengths = 8;  ///< Bytes of the two lengths before a pair.
/// Bytes that a request takes beyond its pairs, mostly: its begin, the records of its pairs and the ends of streams.
constexpr std::size_t kSpaceForHeaders = 64;

char low_byte(std::size_t number) { return static_cast<char>(number & 0xff); }
std::uint8_t byte_at(std::string_view bytes, std::size_t place) { return static_cast<std::uint8_t>(bytes[place]); }

/// Writes a length as it stands before a name or a value (section 3.4); where it ends.
char* write_length(char* out, std::size_t length) {
  if (length < 128) {
    *out++ = low_byte(length);
    return out;
  }
  *out++ = static_cast<char>(low_byte(length >> 24) | '\x80');
  for (const unsigned shift : {16U, 8U, 0U}) *out++ = low_byte(length >> shift);
  return out;
}

/// Writes `header` to the place in `out` that was left for it.
void set_header(std::string& out, std::size_t place, const Header& header) {
  const auto bytes = header.bytes();
  std::copy(bytes.begin(), bytes.end(), out.begin() + static_cast<std::ptrdiff_t>(place));
}

void append_header(std::string& out, const Header& header) {
  const auto bytes = header.bytes();
  out.append(bytes.data(), bytes.size());
}

/// Writes a pair with its lengths; where it ends.
char* write_pair(char* out, std::string_view name, std::string_view value) {
  out = write_length(write_length(out, name.size()), value.size());
  out = std::copy(name.begin(), name.end(), out);
  return std::copy(value.begin(), value.end(), out);
}

/// Appends the record that begins a request, of which address() tells the rest.
void append_begin(std::string& out) {
  append_header(out, {RecordType::begin_request, 0, kBodySize});
  out += {'\0', kResponder, '\0', '\0', '\0', '\0', '\0', '\0'};
}

/// Appends `content` in records of the stream `type`: in one, unless none can hold it.
void append_records(std::string& out, RecordType type, std::string_view content) {
  while (!content.empty()) {
    const std::string_view piece = content.substr(0, kMostContent);
    content.remove_prefix(piece.size());
    append_header(out, {type, 0, static_cast<std::uint16_t>(piece.size())});
    out += piece;
  }
}

}  // namespace

std::string question() {
  constexpr std::string_view kAsked = "FCGI_MPXS_CONNS";
  constexpr std::size_t kLengths = 2;
  const auto header = Header{RecordType::get_values, 0, static_cast<std::uint16_t>(kLengths + kAsked.size())}.bytes();
  std::string out(header.begin(), header.end());
  out += static_cast<char>(kAsked.size());
  out += '\0';  // Of the value nothing is said.
  return out += kAsked;
}

std::array<char, kHeaderSize> Header::bytes() const {
  return {kVersion,
          static_cast<char>(type),
          low_byte(request >> 8),
          low_byte(request),
          low_byte(content_length >> 8),
          low_byte(content_length),
          static_cast<char>(padding_length),
          '\0'};
}

std::optional<Header> parse_header(std::string_view bytes) {
  if (bytes[0] != kVersion) return std::nullopt;
  const auto number = [&](std::size_t place) {
    return static_cast<std::uint16_t>(byte_at(bytes, place) << 8 | byte_at(bytes, place + 1));
  };
  return Header{static_cast<RecordType>(byte_at(bytes, 1)), number(2), number(4), byte_at(bytes, 6)};
}

void append_end_of_stream(std::string& out, RecordType type, std::uint16_t request) {
  append_header(out, {type, request});
}

std::string request_records(const script::Environment& environment) {
  // The pairs are one stream, which may be cut anywhere, but not every program puts a pair together again that was cut.
  std::string pairs;
  pairs.resize(environment.text().size() + environment.size() * kMostLengths);
  std::string out;
  out.reserve(pairs.size() + kSpaceForHeaders);
  append_begin(out);
  char* const begin = pairs.data();
  char* end = begin;
  const auto end_record = [&] {
    append_records(out, RecordType::params, {begin, static_cast<std::size_t>(end - begin)});
    end = begin;
  };
  environment.each([&](std::string_view name, std::string_view value) {
    const std::size_t size = kMostLengths + name.size() + value.size();
    if (end != begin && static_cast<std::size_t>(end - begin) + size > kMostContent) end_record();
    end = write_pair(end, name, value);
  });
  end_record();
  append_end_of_stream(out, RecordType::params, 0);
  return out;
}

void address(std::string& records, std::uint16_t request, Connection then) {
  constexpr std::size_t kFlags = kHeaderSize + 2;
  records[kFlags] = then == Connection::stays ? kKeepConnection : '\0';
  for (std::size_t at = 0; at + kHeaderSize <= records.size();) {
    auto header = parse_header(std::string_view(records).substr(at));
    header->request = request;
    set_header(records, at, *header);
    at += kHeaderSize + header->content_length + header->padding_length;
  }
}

std::optional<ResponseReader::Part> ResponseReader::break_off(std::string problem) {
  problem_ = std::move(problem);
  return Part{Part::Kind::broken};
}

std::optional<ResponseReader::Part> ResponseReader::begin_record(const Header& header) {
  type_ = header.type;
  content_ = header.content_length;
  padding_ = header.padding_length;
  // Answers to questions that were never asked mean nothing to anybody.
  is_skipped_ = header.request == 0 && (type_ == RecordType::get_values_result || type_ == RecordType::unknown_type);
  if (is_skipped_) return std::nullopt;
  if (header.request != request_)
    return break_off("it sent a record of request " + std::to_string(header.request) + " in answer to request " +
                     std::to_string(request_));
  switch (type_) {
    case RecordType::output:
      if (has_output_ended_ && content_ > 0) return break_off("it sent output behind the end of its output");
      if (content_ > 0) return std::nullopt;
      has_output_ended_ = true;
      return Part{Part::Kind::end_of_output};
    case RecordType::error:
      return std::nullopt;
    case RecordType::end_request:
      if (content_ == kBodySize) return std::nullopt;
      return break_off("it ended the request with " + std::to_string(content_) + " bytes, where there are 8");
    default:
      return break_off("it sent a record of type " + std::to_string(static_cast<int>(type_)) +
                       ", which no response holds");
  }
}

std::optional<ResponseReader::Part> ResponseReader::next(std::string_view& bytes) {
  for (;;) {
    if (content_ == 0) {
      const std::size_t skipped = std::min(padding_, bytes.size());
      bytes.remove_prefix(skipped);
      padding_ -= skipped;
      // What is surely no record is told at once, however short it is.
      if (!bytes.empty() && bytes.front() != kVersion) {
        constexpr std::size_t kShown = 40;
        return break_off("it sent no record but \"" + text::escape_line(text::to_utf8(bytes.substr(0, kShown))) + "\"");
      }
      if (padding_ > 0 || bytes.size() < kHeaderSize) return std::nullopt;
      const auto header = parse_header(bytes);
      bytes.remove_prefix(kHeaderSize);
      if (auto part = begin_record(*header)) return part;
      continue;
    }
    if (bytes.empty()) return std::nullopt;
    const std::string_view content = bytes.substr(0, content_);
    bytes.remove_prefix(content.size());
    content_ -= content.size();
    if (is_skipped_) continue;
    if (type_ == RecordType::output) return Part{Part::Kind::output, content};
    if (type_ == RecordType::error) return Part{Part::Kind::error, content};
    body_ += content;
    if (content_ > 0) continue;
    for (std::size_t i = 0; i < 4; ++i) end_.status = end_.status << 8 | byte_at(body_, i);
    const std::uint8_t protocol = byte_at(body_, 4);
    if (protocol > static_cast<std::uint8_t>(End::Protocol::unknown_role))
      return break_off("it ended the request with the unknown protocol status " + std::to_string(protocol));
    end_.protocol = static_cast<End::Protocol>(protocol);
    return Part{Part::Kind::end_of_request};
  }
}

}  // namespace porter::fastcgi
