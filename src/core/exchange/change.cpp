// See change.hpp.
#include "core/exchange/change.hpp"

#include <algorithm>

#include "core/exchange/message.hpp"
#include "core/http/head.hpp"
#include "core/text/text.hpp"

namespace porter::exchange {
namespace {

/// The start line of a request, in its parts.
struct RequestLine {
  std::string method;
  std::string target;
  std::string rest;  ///< The version, with the space before it.
};

RequestLine parts_of_line(const std::string& line) {
  const std::size_t first = std::min(line.find(' '), line.size());
  const std::size_t begin = std::min(first + 1, line.size());
  const std::size_t last = std::min(line.find(' ', begin), line.size());
  return {line.substr(0, first), line.substr(begin, last - begin), line.substr(last)};
}

}  // namespace

std::string changed_request(std::string_view bytes, const Change& change) {
  if (change.is_empty()) return std::string(bytes);
  const Message message = read_message(bytes);
  RequestLine line = parts_of_line(message.start_line);
  if (!change.method.empty()) line.method = change.method;
  if (!change.target.empty()) line.target = change.target;
  if (line.rest.empty()) line.rest = " HTTP/1.1";
  std::string out = line.method + " " + line.target + line.rest + "\r\n";
  auto fields = change.fields;
  // A body has its own length, and is sent in one piece.
  if (change.body) {
    std::erase_if(fields, [](const auto& field) {
      return http::same_name(field.first, "Content-Length") || http::same_name(field.first, "Transfer-Encoding");
    });
    fields.emplace_back("Content-Length", std::to_string(change.body->size()));
  }
  const auto is_left_out = [&](const std::string& name) {
    if (change.body && http::same_name(name, "Transfer-Encoding")) return true;
    return std::any_of(change.without.begin(), change.without.end(),
                       [&](const std::string& other) { return http::same_name(other, name); });
  };
  std::vector<bool> is_written(fields.size(), false);
  const auto write = [&](std::size_t i) {
    if (!is_written[i]) out += fields[i].first + ": " + fields[i].second + "\r\n";
    is_written[i] = true;
  };
  for (const auto& [name, value] : message.fields) {
    if (is_left_out(name)) continue;
    bool is_replaced = false;
    for (std::size_t i = 0; i < fields.size(); ++i) {
      if (!http::same_name(fields[i].first, name)) continue;
      is_replaced = true;
      write(i);
    }
    if (!is_replaced) out += name + ": " + value + "\r\n";
  }
  for (std::size_t i = 0; i < fields.size(); ++i) write(i);
  out += "\r\n";
  out += change.body ? std::string_view(*change.body) : bytes.substr(std::min(message.body_at, bytes.size()));
  return out;
}

bool is_safe(std::string_view method) {
  constexpr std::string_view kSafe[] = {"GET", "HEAD", "OPTIONS", "TRACE", "PROPFIND", "REPORT", "SEARCH"};
  return std::find(std::begin(kSafe), std::end(kSafe), method) != std::end(kSafe);
}

namespace {

/// Whether curl sends `target` as it is when it stands in a URL.
bool is_plain_target(std::string_view target) {
  return target.starts_with('/') && std::all_of(target.begin(), target.end(), [](char c) {
           return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                  std::string_view("-._~!$&'()*+,;=:@/?%").find(c) != std::string_view::npos;
         });
}

/// The address that `exchange` came to, as it stands in a URL: whatever its request says, it is sent to this server
/// again, and its cookies with it to nobody else.
std::string address_of(const Recorded& exchange, const Message& message) {
  const std::string port = ":" + std::to_string(exchange.server_port);
  const std::string& server = exchange.server;
  const bool is_local = server == "::1" || server.starts_with("127.");
  if (is_local && message.field("Host") == "localhost" + port) return "localhost" + port;
  return (server.find(':') == server.npos ? server : "[" + server + "]") + port;
}

/// What sends the body, before the command and in it.
struct BodyWords {
  std::string before;
  std::string option;
};

BodyWords words_for(std::string_view body) {
  // As a word only if all of it can be read in the command; a file is what begins with @ for other options.
  const bool is_word = text::shell_word(body).find("$(printf") == std::string::npos && body.find('\n') == body.npos;
  if (is_word) return {"", " --data-raw " + text::shell_word(body)};
  return {"printf " + text::printf_format(body) + " | ", " --data-binary @-"};
}

}  // namespace

const char* why_not_by_curl(std::string_view bytes) {
  const Message message = read_message(bytes);
  if (bytes.substr(0, message.body_at).find('\0') != bytes.npos)
    return "its head holds a zero byte, and no word of a shell can";
  for (const auto& [name, value] : message.fields)
    if (name.starts_with('@')) return "a field's name begins with @, which curl takes for the name of a file";
  return nullptr;
}

std::string curl_command(const Recorded& exchange) {
  const std::string& bytes = exchange.request.bytes;
  const Message message = read_message(bytes);
  const RequestLine line = parts_of_line(message.start_line);
  const Body body = read_transferred(message, bytes, UINT64_MAX);
  const bool has_body = !body.bytes.empty() || message.field("Content-Length") || body.is_chunked;
  std::string out = "curl --include --path-as-is --globoff";
  if (line.rest == " HTTP/1.0") out += " --http1.0";
  if (line.method == "HEAD" && has_body) {
    // curl has HEAD without a body only. It would wait for a page, so the connection's end has to tell that none comes.
    out += " --request HEAD --ignore-content-length --header 'Connection: close'";
  } else if (line.method == "HEAD") {
    out += " --head";
  } else if (line.method != (has_body ? "POST" : "GET")) {
    out += " --request " + text::shell_word(line.method);
  }
  // What curl would send by itself is left out where it was not sent.
  for (const char* const own : {"Host", "User-Agent", "Accept"})
    if (!message.field(own)) out += std::string(" --header ") + text::shell_word(std::string(own) + ":");
  if (has_body && !message.field("Content-Type")) out += " --header 'Content-Type:'";
  if (has_body && !message.field("Expect")) out += " --header 'Expect:'";
  for (const auto& [name, value] : message.fields) {
    if (http::same_name(name, "Content-Length")) continue;
    if (line.method == "HEAD" && has_body && http::same_name(name, "Connection")) continue;
    // A name with a semicolon is how curl is told of an empty value.
    out += " --header " + text::shell_word(value.empty() ? name + ";" : name + ": " + value);
  }
  BodyWords words;
  if (has_body) words = words_for(body.bytes);
  out += words.option;
  const bool is_plain = is_plain_target(line.target);
  if (!is_plain) out += " --request-target " + text::shell_word(line.target);
  return words.before + out + " " +
         text::shell_word("http://" + address_of(exchange, message) + (is_plain ? line.target : "/"));
}

}  // namespace porter::exchange
