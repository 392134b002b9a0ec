// The table of media types. See media_type.hpp.
#include "core/http/media_type.hpp"

#include <algorithm>
#include <array>
#include <utility>

#include "core/text/ascii.hpp"

namespace porter::http {
namespace {

using Row = std::pair<std::string_view, std::string_view>;

// Sorted by ending. Text types are completed with the charset in media_type().
constexpr auto kTypes = std::to_array<Row>({
    {"aac", "audio/aac"},
    {"apng", "image/apng"},
    {"atom", "application/atom+xml"},
    {"avif", "image/avif"},
    {"bmp", "image/bmp"},
    {"cjs", "text/javascript"},
    {"css", "text/css"},
    {"csv", "text/csv"},
    {"eot", "application/vnd.ms-fontobject"},
    {"flac", "audio/flac"},
    {"geojson", "application/geo+json"},
    {"gif", "image/gif"},
    {"gz", "application/gzip"},
    {"htm", "text/html"},
    {"html", "text/html"},
    {"ico", "image/vnd.microsoft.icon"},
    {"ics", "text/calendar"},
    {"jpeg", "image/jpeg"},
    {"jpg", "image/jpeg"},
    {"js", "text/javascript"},
    {"json", "application/json"},
    {"jsonld", "application/ld+json"},
    {"jsx", "text/javascript"},
    {"jxl", "image/jxl"},
    {"log", "text/plain"},
    {"m4a", "audio/mp4"},
    {"m4v", "video/mp4"},
    {"map", "application/json"},
    {"md", "text/markdown"},
    {"mjs", "text/javascript"},
    {"mov", "video/quicktime"},
    {"mp3", "audio/mpeg"},
    {"mp4", "video/mp4"},
    {"mpeg", "video/mpeg"},
    {"oga", "audio/ogg"},
    {"ogg", "audio/ogg"},
    {"ogv", "video/ogg"},
    {"opus", "audio/ogg"},
    {"otf", "font/otf"},
    {"pdf", "application/pdf"},
    {"png", "image/png"},
    {"rss", "application/rss+xml"},
    {"rtf", "application/rtf"},
    {"svg", "image/svg+xml"},
    {"tar", "application/x-tar"},
    {"text", "text/plain"},
    {"tif", "image/tiff"},
    {"tiff", "image/tiff"},
    {"toml", "application/toml"},
    {"ts", "text/typescript"},
    {"tsx", "text/typescript"},
    {"ttf", "font/ttf"},
    {"txt", "text/plain"},
    {"vtt", "text/vtt"},
    {"vue", "text/plain"},
    {"wasm", "application/wasm"},
    {"wav", "audio/wav"},
    {"weba", "audio/webm"},
    {"webm", "video/webm"},
    {"webmanifest", "application/manifest+json"},
    {"webp", "image/webp"},
    {"woff", "font/woff"},
    {"woff2", "font/woff2"},
    {"xht", "application/xhtml+xml"},
    {"xhtml", "application/xhtml+xml"},
    {"xml", "application/xml"},
    {"yaml", "application/yaml"},
    {"yml", "application/yaml"},
    {"zip", "application/zip"},
});
static_assert(std::is_sorted(kTypes.begin(), kTypes.end()));

std::string with_charset(std::string_view type) {
  std::string out(type);
  if (type.starts_with("text/") && type.find(';') == type.npos) out += "; charset=utf-8";
  return out;
}

bool is_space(char c) { return c == ' ' || c == '\t'; }

}  // namespace

std::string media_type(std::string_view name, const TypesByEnding& chosen, const TypesByEnding& more) {
  const std::size_t dot = name.rfind('.');
  if (dot == name.npos || dot + 1 == name.size()) return "application/octet-stream";
  std::string ending(name.substr(dot + 1));
  for (char& c : ending) c = text::ascii_lower(c);
  if (const auto found = chosen.find(ending); found != chosen.end()) return with_charset(found->second);
  const auto* const row = std::lower_bound(kTypes.begin(), kTypes.end(), ending,
                                           [](const Row& r, const std::string& e) { return r.first < e; });
  if (row != kTypes.end() && row->first == ending) return with_charset(row->second);
  if (const auto found = more.find(ending); found != more.end()) return with_charset(found->second);
  return "application/octet-stream";
}

TypesByEnding parse_type_list(std::string_view text) {
  TypesByEnding out;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    std::string_view line = text.substr(0, std::min(end, text.substr(0, end).find('#')));
    text.remove_prefix(std::min(end + 1, text.size()));
    std::string_view type;
    while (!line.empty()) {
      const auto* const start = std::find_if_not(line.begin(), line.end(), is_space);
      line.remove_prefix(static_cast<std::size_t>(start - line.begin()));
      const auto* const stop = std::find_if(line.begin(), line.end(), is_space);
      const std::string_view word = line.substr(0, static_cast<std::size_t>(stop - line.begin()));
      line.remove_prefix(word.size());
      if (word.empty()) break;
      if (type.empty()) {
        type = word;
      } else {
        out.emplace(word, type);
      }
    }
  }
  return out;
}

bool compresses_well(std::string_view content_type) {
  const std::string_view type = content_type.substr(0, content_type.find(';'));
  if (type.starts_with("text/")) return true;
  if (type.ends_with("+xml") || type.ends_with("+json")) return true;
  constexpr auto kMore =
      std::to_array<std::string_view>({"application/json", "application/xml", "application/wasm", "application/toml",
                                       "application/yaml", "application/rtf", "application/vnd.ms-fontobject",
                                       "font/ttf", "font/otf", "image/bmp", "image/vnd.microsoft.icon"});
  return std::find(kMore.begin(), kMore.end(), type) != kMore.end();
}

}  // namespace porter::http
