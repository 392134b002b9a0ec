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

std::string curl_command(std::string_view bytes, const std::string& url) {
  const Message message = read_message(bytes);
  const RequestLine line = parts_of_line(message.start_line);
  const Body body = read_transferred(message, bytes, UINT64_MAX);
  const bool has_body = !body.bytes.empty() || message.field("Content-Length") || body.is_chunked;
  std::string out = "curl --include --path-as-is --globoff";
  if (line.rest == " HTTP/1.0") out += " --http1.0";
  if (line.method == "HEAD") {
    out += " --head";
  } else if (line.method != (has_body ? "POST" : "GET")) {
    out += " --request " + text::shell_word(line.method);
  }
  // What curl would send by itself is left out where it was not sent.
  for (const char* const own : {"User-Agent", "Accept"})
    if (!message.field(own)) out += std::string(" --header ") + text::shell_word(std::string(own) + ":");
  if (has_body && !message.field("Content-Type")) out += " --header 'Content-Type:'";
  if (has_body && !message.field("Expect")) out += " --header 'Expect:'";
  for (const auto& [name, value] : message.fields) {
    if (http::same_name(name, "Content-Length")) continue;
    // A name with a semicolon is how curl is told of an empty value.
    out += " --header " + text::shell_word(value.empty() ? name + ";" : name + ": " + value);
  }
  if (has_body) {
    // A shell has no zeros in its words, and curl takes a word that begins with @ for a file.
    if (body.bytes.find('\0') == body.bytes.npos && !text::to_utf8(body.bytes).empty() &&
        text::to_utf8(body.bytes) == body.bytes) {
      out += " --data-raw " + text::shell_word(body.bytes);
    } else {
      std::string escaped;
      for (const char c : body.bytes) {
        const auto byte = static_cast<unsigned char>(c);
        escaped += '\\';
        for (const int shift : {6, 3, 0}) escaped += static_cast<char>('0' + (byte >> shift & 7));
      }
      out = "printf '" + escaped + "' | " + out + " --data-binary @-";
    }
  }
  return out + " " + text::shell_word(url);
}

std::string curl_command(const Recorded& exchange) {
  if (!exchange.target.starts_with('/')) return curl_command(exchange.request.bytes, exchange.target);
  std::string host = read_message(exchange.request.bytes).field("Host").value_or("");
  // A client that went by another way names another port, or none.
  const std::string port = ":" + std::to_string(exchange.server_port);
  if (!host.ends_with(port)) {
    const std::string& server = exchange.server;
    host = (server.find(':') == server.npos ? server : "[" + server + "]") + port;
  }
  return curl_command(exchange.request.bytes, "http://" + host + exchange.target);
}

}  // namespace porter::exchange
