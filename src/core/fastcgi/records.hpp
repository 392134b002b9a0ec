// FastCGI records: what a server and a program that answers many requests say to each other (FastCGI 1.0
// specification, sections 3 to 5).
//
// One request at a time goes over a connection, in the role of a responder: its parameters and its input one way, its
// output and its error stream the other way, each a stream of records that an empty one ends.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "core/script/environment.hpp"

namespace porter::fastcgi {

inline constexpr std::size_t kHeaderSize = 8;
/// Bytes that one record can hold.
inline constexpr std::size_t kMostContent = 65535;

enum class RecordType : std::uint8_t {
  begin_request = 1,
  abort_request = 2,
  end_request = 3,
  params = 4,
  input = 5,
  output = 6,
  error = 7,
  data = 8,
  get_values = 9,
  get_values_result = 10,
  unknown_type = 11
};

/// The first eight bytes of every record (section 3.3).
struct Header {
  RecordType type;
  std::uint16_t request = 0;  ///< The request's number on its connection; 0: the record belongs to none.
  std::uint16_t content_length = 0;
  std::uint8_t padding_length = 0;

  std::array<char, kHeaderSize> bytes() const;
};

/// Asks a program whether it takes several requests over one connection (section 4.1): it answers once it takes
/// requests, and until then it is at work.
std::string question();

/// The header that `bytes` begin with, of which there must be kHeaderSize. nullopt: it is of no version that is known.
std::optional<Header> parse_header(std::string_view bytes);

/// What is to become of the connection once the request is over (section 5.1).
enum class Connection { closes, stays };

/// The records that begin a request: its begin, and all of its parameters, `environment` (section 5.2). address() makes
/// them those of one request.
std::string request_records(const script::Environment& environment);
/// Gives whole `records`, which begin with a request's begin, the number of that request, and tells the connection's
/// future.
void address(std::string& records, std::uint16_t request, Connection then);
/// Appends the end of the stream `type`.
void append_end_of_stream(std::string& out, RecordType type, std::uint16_t request);

/// Cuts what a program sends for one request into its parts. It holds nothing back: content is handed on as it comes,
/// however long its record is.
class ResponseReader {
 public:
  /// For the response to `request`, a number above 0.
  explicit ResponseReader(std::uint16_t request) : request_(request) {}

  std::uint16_t request() const { return request_; }

  /// A part of the response. Its content lies in the bytes that it was read from.
  struct Part {
    enum class Kind {
      output,         ///< `content` of the output stream, at least a byte.
      end_of_output,  ///< Of the stream, not of the request.
      error,          ///< `content` of the error stream.
      end_of_request,
      broken  ///< What came next is no response to the request, as problem() tells.
    } kind;
    std::string_view content{};
  };

  /// Takes the next part off the front of `bytes`; nullopt: that needs more of them. What belongs to a part that is not
  /// whole yet is taken as well, or left in `bytes`. Nothing may be asked for after the end or `broken`.
  std::optional<Part> next(std::string_view& bytes);

  /// How a program ended the request (section 5.5).
  struct End {
    std::uint32_t status = 0;  ///< The program's own, as an exit status; many always say 0.
    enum class Protocol : std::uint8_t {
      complete = 0,
      cannot_multiplex = 1,  ///< It takes one request a connection, and has one.
      overloaded = 2,
      unknown_role = 3
    } protocol = Protocol::complete;
  };
  /// After the part of that kind.
  const End& end() const { return end_; }
  /// What is wrong, as a clause: "it sent …". After a broken part.
  const std::string& problem() const { return problem_; }

 private:
  std::optional<Part> break_off(std::string problem);
  /// Takes up the record whose header was read; a part of it, or nullopt if its content follows.
  std::optional<Part> begin_record(const Header& header);

  std::uint16_t request_;
  RecordType type_{};        ///< Of the record that is being read.
  bool is_skipped_ = false;  ///< Nobody wants its content.
  std::size_t content_ = 0;  ///< Bytes of it that are still to come.
  std::size_t padding_ = 0;  ///< The same, behind its content.
  std::string body_;         ///< Content that is needed as a whole.
  bool has_output_ended_ = false;
  End end_;
  std::string problem_;
};

}  // namespace porter::fastcgi
