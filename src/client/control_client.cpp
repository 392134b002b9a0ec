// Requests over the control socket, one on each connection. In a file of its own, since the library is large.
#include "client/control_client.hpp"

#include <array>
#include <boost/asio/io_context.hpp>
#include <boost/asio/local/stream_protocol.hpp>
#include <boost/beast/core/basic_stream.hpp>
#include <boost/beast/core/flat_buffer.hpp>
#include <boost/beast/http/buffer_body.hpp>
#include <boost/beast/http/message.hpp>
#include <boost/beast/http/parser.hpp>
#include <boost/beast/http/read.hpp>
#include <boost/beast/http/string_body.hpp>
#include <boost/beast/http/write.hpp>
#include <optional>

namespace porter::client {
namespace {

namespace asio = boost::asio;
namespace beast = boost::beast;
namespace http = boost::beast::http;

/// A connection to the control socket of a server. Each step waits until it is done.
class Connection {
 public:
  explicit Connection(std::chrono::seconds patience) : patience_(patience) {}

  /// Connects; tells whether that was possible.
  bool open(const std::string& socket) {
    beast::error_code error;
    // A path that is too long for the system is thrown at us.
    try {
      stream_.socket().connect(asio::local::stream_protocol::endpoint(socket), error);
    } catch (const boost::system::system_error&) {
      return false;
    }
    return !error;
  }

  bool send(const std::string& method, const std::string& target, const nlohmann::json& body) {
    http::request<http::string_body> request;
    request.version(11);
    request.method_string(method);
    request.target(target);
    request.set(http::field::host, "localhost");
    request.set(http::field::connection, "close");
    if (!body.is_null()) request.set(http::field::content_type, "application/json");
    if (!body.is_null()) request.body() = json_text(body);
    request.prepare_payload();
    stream_.expires_after(patience_);
    http::async_write(stream_, request, note());
    return step();
  }

  /// Reads the response, whole.
  std::optional<http::response<http::string_body>> read() {
    http::response_parser<http::string_body> parser;
    parser.body_limit(boost::none);
    stream_.expires_after(patience_);
    http::async_read(stream_, buffer_, parser, note());
    if (!step()) return std::nullopt;
    return parser.release();
  }

  /// Reads a response of any length and hands it to `take` piece by piece, until that returns false. The status; 0:
  /// there was no response.
  int read_pieces(const std::function<bool(int status, std::string_view)>& take) {
    http::response_parser<http::buffer_body> parser;
    parser.body_limit(boost::none);
    stream_.expires_never();
    http::async_read_header(stream_, buffer_, parser, note());
    if (!step()) return 0;
    const int status = parser.get().result_int();
    std::array<char, 16 * 1024> space;
    while (!parser.is_done()) {
      parser.get().body() = {space.data(), space.size(), true};
      http::async_read_some(stream_, buffer_, parser, note());
      if (!step() && error_ != http::error::need_buffer) {
        is_broken_off_ = true;
        break;
      }
      if (!take(status, {space.data(), space.size() - parser.get().body().size})) break;
    }
    return status;
  }

  /// Whether the last response has not come to its end.
  bool is_broken_off() const { return is_broken_off_; }

  /// The same line by line, without their ends.
  int read_lines(const std::function<bool(const std::string&)>& take) {
    std::string received;
    return read_pieces([&](int, std::string_view piece) {
      received += piece;
      for (std::size_t end = 0; (end = received.find('\n')) != received.npos; received.erase(0, end + 1))
        if (!take(received.substr(0, end))) return false;
      return true;
    });
  }

 private:
  std::function<void(beast::error_code, std::size_t)> note() {
    return [this](beast::error_code error, std::size_t) { error_ = error; };
  }
  /// Waits until what was begun is done; true: without an error.
  bool step() {
    context_.restart();
    context_.run();
    return !error_;
  }

  const std::chrono::seconds patience_;
  asio::io_context context_{1};
  beast::basic_stream<asio::local::stream_protocol> stream_{context_};
  beast::flat_buffer buffer_;
  beast::error_code error_;
  bool is_broken_off_ = false;
};

}  // namespace

Reply ask(const machine::Instance& instance, const std::string& method, const std::string& target,
          const nlohmann::json& body, std::chrono::seconds patience) {
  Connection connection(patience);
  if (!connection.open(instance.socket) || !connection.send(method, target, body))
    return {0, "its control socket " + instance.socket + " cannot be reached"};
  const auto response = connection.read();
  if (!response) return {0, "it does not answer at its control socket " + instance.socket};
  return {static_cast<int>(response->result_int()), parse_json(response->body())};
}

bool ask_for_lines(const machine::Instance& instance, const std::string& target,
                   const std::function<bool(const nlohmann::json&)>& take) {
  Connection connection(kMostWait);
  if (!connection.open(instance.socket) || !connection.send("GET", target, nullptr)) return false;
  return connection.read_lines([&take](const std::string& line) { return take(parse_json(line)); }) != 0;
}

Reply ask_for_bytes(const machine::Instance& instance, const std::string& target,
                    const std::function<bool(std::string_view)>& take) {
  Connection connection(kMostWait);
  if (!connection.open(instance.socket) || !connection.send("GET", target, nullptr))
    return {0, "its control socket " + instance.socket + " cannot be reached"};
  std::string problem;
  const int status = connection.read_pieces([&](int came, std::string_view piece) {
    if (came == 200) return take(piece);
    problem += piece;
    return true;
  });
  if (status == 0) return {0, "it does not answer at its control socket " + instance.socket};
  if (connection.is_broken_off()) return {0, "it broke off its response"};
  return {status, parse_json(problem)};
}

bool ask_for_events(const machine::Instance& instance,
                    const std::function<bool(const std::string& type, const nlohmann::json& data)>& take) {
  Connection connection(kMostWait);
  if (!connection.open(instance.socket) || !connection.send("GET", "/v1/events", nullptr)) return false;
  std::string type;
  return connection.read_lines([&](const std::string& line) {
    constexpr std::string_view kType = "event: ";
    constexpr std::string_view kData = "data: ";
    if (line.starts_with(kType)) type = line.substr(kType.size());
    if (line.starts_with(':')) return take("", nullptr);
    if (!line.starts_with(kData)) return true;
    return take(type, parse_json(line.substr(kData.size())));
  }) != 0;
}

}  // namespace porter::client
