// Requests over the control socket, by Boost.Beast.
#include "client/control_client.hpp"

#include <boost/asio/buffered_read_stream.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/local/stream_protocol.hpp>
#include <boost/asio/read_until.hpp>
#include <boost/asio/streambuf.hpp>
#include <boost/beast/core/flat_buffer.hpp>
#include <boost/beast/http.hpp>
#include <istream>

#include "core/http/target.hpp"

namespace porter::client {
namespace {

namespace asio = boost::asio;
namespace beast = boost::beast;
using Socket = asio::local::stream_protocol::socket;

bool connect(Socket& socket, const run::Instance& instance) {
  boost::system::error_code error;
  socket.connect(asio::local::stream_protocol::endpoint(instance.socket), error);
  if (error) return false;
  // A server that hangs must not hang its client too; a reload may open files on slow disks.
  const timeval patience{20, 0};
  ::setsockopt(socket.native_handle(), SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof patience);
  return true;
}

beast::http::request<beast::http::string_body> make_request(const std::string& method, const std::string& target,
                                                            const nlohmann::json& body) {
  beast::http::request<beast::http::string_body> request;
  request.method_string(method);
  request.target(target);
  request.version(11);
  request.set(beast::http::field::host, "localhost");
  if (!body.is_null()) {
    request.set(beast::http::field::content_type, "application/json");
    request.body() = body.dump();
  }
  request.prepare_payload();
  return request;
}

}  // namespace

Presence presence_of(const run::Instance& instance) {
  if (!run::lock_holder(instance)) return Presence::absent;
  return ask(instance, "GET", "/v1/status").status == 200 ? Presence::present : Presence::silent;
}

Reply ask(const run::Instance& instance, const std::string& method, const std::string& target,
          const nlohmann::json& body) {
  asio::io_context context;
  Socket socket(context);
  if (!connect(socket, instance)) return {0, "its control socket " + instance.socket + " cannot be reached"};
  boost::system::error_code error;
  beast::http::write(socket, make_request(method, target, body), error);
  beast::flat_buffer buffer;
  beast::http::response_parser<beast::http::string_body> parser;
  parser.body_limit(64 * 1024 * 1024);
  if (!error) beast::http::read(socket, buffer, parser, error);
  if (error) return {0, "it does not answer at its control socket " + instance.socket};
  return {static_cast<int>(parser.get().result_int()), nlohmann::json::parse(parser.get().body(), nullptr, false)};
}

bool ask_for_lines(const run::Instance& instance, const std::string& target,
                   const std::function<bool(const nlohmann::json&)>& take) {
  asio::io_context context;
  Socket socket(context);
  if (!connect(socket, instance)) return false;
  const timeval forever{0, 0};
  ::setsockopt(socket.native_handle(), SOL_SOCKET, SO_RCVTIMEO, &forever, sizeof forever);
  boost::system::error_code error;
  beast::http::write(socket, make_request("GET", target, nullptr), error);
  asio::streambuf buffer;
  if (!error) asio::read_until(socket, buffer, "\r\n\r\n", error);
  if (error) return false;
  std::istream lines(&buffer);
  for (std::string line; std::getline(lines, line) && line != "\r";) {
  }
  for (;;) {
    asio::read_until(socket, buffer, '\n', error);
    if (error) return true;
    std::string line;
    std::getline(lines, line);
    if (!take(nlohmann::json::parse(line, nullptr, false))) return true;
  }
}

std::string encoded(std::string_view text) {
  constexpr std::string_view kDigits = "0123456789ABCDEF";
  std::string out;
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    const bool plain =
        (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-' || c == '_' || c == '.';
    if (plain) {
      out += c;
    } else {
      out += '%';
      out += kDigits[byte >> 4];
      out += kDigits[byte & 15];
    }
  }
  return out;
}

}  // namespace porter::client
