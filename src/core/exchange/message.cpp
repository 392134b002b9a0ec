// See message.hpp.
#include "core/exchange/message.hpp"

#include <zlib.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "core/http/body.hpp"
#include "core/http/head.hpp"
#include "core/http/target.hpp"
#include "core/text/text.hpp"

namespace porter::exchange {
namespace {

/// Where the head of `bytes` ends: behind its empty line, or with all of it.
std::size_t head_end(std::string_view bytes) {
  for (std::size_t at = 0; (at = bytes.find('\n', at)) != bytes.npos;) {
    ++at;
    if (bytes.substr(at).starts_with("\r\n")) return at + 2;
    if (bytes.substr(at).starts_with("\n")) return at + 1;
  }
  return bytes.size();
}

/// The next line of `bytes`, without its end, which are taken away from there.
std::string_view take_line(std::string_view& bytes) {
  std::string_view line = bytes.substr(0, bytes.find('\n'));
  bytes.remove_prefix(std::min(line.size() + 1, bytes.size()));
  if (line.ends_with('\r')) line.remove_suffix(1);
  return line;
}

/// The value of `parameter` in a field such as `form-data; name="quay"`; nullopt: it is not there.
std::optional<std::string> parameter_in(std::string_view value, std::string_view parameter) {
  for (std::size_t at = 0; (at = value.find(';', at)) != value.npos;) {
    std::string_view rest = http::trim(value.substr(++at));
    const std::size_t equals = rest.find('=');
    if (equals == rest.npos || !http::same_name(http::trim(rest.substr(0, equals)), parameter)) continue;
    rest.remove_prefix(equals + 1);
    if (!rest.starts_with('"')) return std::string(http::trim(rest.substr(0, rest.find(';'))));
    std::string out;
    for (std::size_t i = 1; i < rest.size() && rest[i] != '"'; ++i) {
      if (rest[i] == '\\' && i + 1 < rest.size()) ++i;
      out += rest[i];
    }
    return out;
  }
  return std::nullopt;
}

/// Takes the gzip or zlib coding off `bytes`. False: it is broken off or something else; `out` has what came out.
bool inflate_all(std::string_view bytes, std::uint64_t most, std::string& out) {
  z_stream stream{};
  // 32: the kind of header is found out.
  if (::inflateInit2(&stream, 15 + 32) != Z_OK) return false;
  stream.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(bytes.data()));
  stream.avail_in = static_cast<uInt>(bytes.size());
  int state = Z_OK;
  std::array<char, 16 * 1024> piece;
  while (state == Z_OK && out.size() < most) {
    stream.next_out = reinterpret_cast<Bytef*>(piece.data());
    stream.avail_out = piece.size();
    state = ::inflate(&stream, Z_NO_FLUSH);
    out.append(piece.data(), piece.size() - stream.avail_out);
    if (state == Z_BUF_ERROR) break;
  }
  ::inflateEnd(&stream);
  return state == Z_STREAM_END;
}

bool is_text(std::string_view bytes) {
  const std::string_view start = bytes.substr(0, 4096);
  return std::none_of(start.begin(), start.end(), [](char c) {
    const auto byte = static_cast<unsigned char>(c);
    return (byte < 0x20 && c != '\t' && c != '\n' && c != '\r' && c != '\f' && c != '\x1b') || byte == 0x7f;
  });
}

}  // namespace

std::optional<std::string> inflated(std::string_view bytes, std::uint64_t most) {
  std::string out;
  if (!inflate_all(bytes, most, out)) return std::nullopt;
  return out;
}

std::optional<std::string> Message::field(std::string_view name) const {
  for (const auto& [own, value] : fields)
    if (http::same_name(own, name)) return value;
  return std::nullopt;
}

Message read_message(std::string_view bytes) {
  Message out;
  for (;;) {
    const std::size_t end = head_end(bytes.substr(out.body_at));
    std::string_view head = bytes.substr(out.body_at, end);
    out.body_at += end;
    out.start_line = take_line(head);
    // Empty lines before a request are allowed (RFC 9112, section 2.2).
    while (out.start_line.empty() && !head.empty()) out.start_line = take_line(head);
    const std::string_view line = out.start_line;
    const bool is_interim = line.starts_with("HTTP/1.") && line.size() > 9 && line.substr(8, 2) == " 1" &&
                            line.substr(8, 4) != " 101" && out.body_at < bytes.size();
    if (is_interim) {
      out.interim.push_back(out.start_line);
      continue;
    }
    while (!head.empty()) {
      const std::string_view field = take_line(head);
      if (field.empty()) continue;
      const std::size_t colon = std::min(field.find(':'), field.size());
      out.fields.emplace_back(field.substr(0, colon), http::trim(field.substr(std::min(colon + 1, field.size()))));
    }
    return out;
  }
}

Body read_transferred(const Message& message, std::string_view bytes, std::uint64_t most) {
  Body out;
  std::string_view raw = bytes.substr(std::min(message.body_at, bytes.size()));
  if (http::list_has(message.field("Transfer-Encoding").value_or(""), "chunked")) {
    out.is_chunked = true;
    http::ChunkReader reader;
    while (!raw.empty() && reader.state() == http::ChunkReader::State::more && out.bytes.size() < most) {
      const std::size_t used = reader.read(raw, out.bytes);
      if (used == 0) break;
      raw.remove_prefix(used);
    }
    if (reader.state() == http::ChunkReader::State::bad) out.problem = "its chunks are broken";
    out.is_broken_off = reader.state() == http::ChunkReader::State::more;
    if (out.is_broken_off) out.problem = "its last chunk is missing";
  } else {
    std::uint64_t length = raw.size();
    if (const auto told = message.field("Content-Length"))
      std::from_chars(told->data(), told->data() + told->size(), length);
    out.bytes = raw.substr(0, static_cast<std::size_t>(std::min<std::uint64_t>(length, raw.size())));
    out.is_broken_off = length > raw.size();
    if (out.is_broken_off) out.problem = "only a part of it is there";
  }
  if (out.bytes.size() > most) out.bytes.resize(static_cast<std::size_t>(most));
  return out;
}

Body read_body(const Message& message, std::string_view bytes, std::uint64_t most) {
  Body out = read_transferred(message, bytes, most);
  const std::string coding = text::to_lower(message.field("Content-Encoding").value_or(""));
  if ((coding == "gzip" || coding == "x-gzip" || coding == "deflate") && !out.bytes.empty()) {
    std::string plain;
    const bool is_whole = inflate_all(out.bytes, most, plain);
    if (is_whole || !plain.empty()) {
      out.bytes = std::move(plain);
      out.is_compressed = true;
    }
    if (!is_whole) out.problem = "its compression cannot be taken off whole";
  }
  return out;
}

std::string media_type(const Message& message) {
  const std::string type = message.field("Content-Type").value_or("");
  return text::to_lower(http::trim(std::string_view(type).substr(0, type.find(';'))));
}

BodyKind kind_of_body(const Message& message, std::string_view body) {
  if (body.empty()) return BodyKind::none;
  const std::string type = media_type(message);
  if (type == "multipart/form-data") return BodyKind::upload;
  if (!is_text(body)) return BodyKind::binary;
  if (type == "application/json" || type.ends_with("+json")) return BodyKind::json;
  if (type == "application/x-www-form-urlencoded") return BodyKind::form;
  return BodyKind::text;
}

std::vector<std::pair<std::string, std::string>> form_fields(std::string_view body) {
  std::vector<std::pair<std::string, std::string>> out;
  const auto decoded = [](std::string_view text) {
    std::string spaced(text);
    std::replace(spaced.begin(), spaced.end(), '+', ' ');
    return http::percent_decode(spaced).value_or(spaced);
  };
  for (const std::string_view pair : text::parts_of(body, '&')) {
    const std::size_t equals = std::min(pair.find('='), pair.size());
    if (pair.empty()) continue;
    out.emplace_back(decoded(pair.substr(0, equals)), decoded(pair.substr(std::min(equals + 1, pair.size()))));
  }
  return out;
}

namespace {

/// Calls `take` with the head of each part and the place of its content.
template <typename Take>
void each_part(const Message& message, std::string_view body, Take take) {
  const auto boundary = parameter_in(message.field("Content-Type").value_or(""), "boundary");
  if (!boundary || boundary->empty()) return;
  const std::string mark = "--" + *boundary;
  std::size_t at = body.find(mark);
  while (at != body.npos) {
    at += mark.size();
    if (body.substr(at).starts_with("--")) break;
    at = std::min(body.find('\n', at), body.size() - 1) + 1;
    const std::size_t end = std::min(body.find("\r\n" + mark, at), body.size());
    const std::string_view part = body.substr(at, end - at);
    // A part is a head and a body, as a message is, but for the start line.
    constexpr std::string_view kStart = "part\r\n";
    const std::size_t head_size = part.starts_with("\r\n") ? 2 : part.starts_with("\n") ? 1 : head_end(part);
    const Message head = read_message(std::string(kStart) + std::string(part.substr(0, head_size)));
    take(head, at + head_size, part.size() - head_size);
    at = end == body.size() ? body.npos : end + 2;
  }
}

std::string name_of_part(const Message& head) {
  return parameter_in(head.field("Content-Disposition").value_or(""), "name").value_or("");
}

}  // namespace

std::vector<UploadPart> upload_parts(const Message& message, std::string_view body) {
  std::vector<UploadPart> out;
  each_part(message, body, [&](const Message& head, std::size_t at, std::size_t size) {
    out.push_back({name_of_part(head), parameter_in(head.field("Content-Disposition").value_or(""), "filename"),
                   head.field("Content-Type").value_or(""), std::string(body.substr(at, size))});
  });
  return out;
}

std::vector<UploadSpan> upload_spans(const Message& message, std::string_view body) {
  std::vector<UploadSpan> out;
  each_part(message, body, [&](const Message& head, std::size_t at, std::size_t size) {
    out.push_back({name_of_part(head), at, size});
  });
  return out;
}

std::string hex_dump(std::string_view bytes) {
  constexpr std::size_t kPerLine = 16;
  constexpr std::string_view kDigits = "0123456789abcdef";
  std::string out;
  for (std::size_t at = 0; at < bytes.size(); at += kPerLine) {
    for (int shift = 28; shift >= 0; shift -= 4) out += kDigits[at >> shift & 15];
    out += "  ";
    std::string shown;
    for (std::size_t i = at; i < at + kPerLine; ++i) {
      if (i == at + kPerLine / 2) out += ' ';
      if (i >= bytes.size()) {
        out += "   ";
        continue;
      }
      const auto byte = static_cast<unsigned char>(bytes[i]);
      out += kDigits[byte >> 4];
      out += kDigits[byte & 15];
      out += ' ';
      shown += byte >= 0x20 && byte < 0x7f ? bytes[i] : '.';
    }
    out += ' ' + shown + '\n';
  }
  return out;
}

}  // namespace porter::exchange
