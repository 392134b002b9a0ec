// A recorded exchange as a value: what went over the wire, and what is known of how the response came about.
//
// The server makes these from what it keeps (server/record/exchange_store.hpp); everything that people and programs are
// told of an exchange is made from them.
#pragma once

#include <chrono>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "core/findings/finding.hpp"

namespace porter::exchange {

/// A part of a response that went out of a file without passing the server's memory. It is told here in place of its
/// bytes.
struct FileSlice {
  std::uint64_t at = 0;  ///< Where it belongs: behind so many of the bytes that are kept.
  std::string file;      ///< Its path.
  std::uint64_t offset = 0;
  std::uint64_t length = 0;
  // As the file was; it is the same if all of these are.
  std::uint64_t size = 0;
  std::int64_t modified = 0;  ///< Nanoseconds since 1970.
  std::uint64_t device = 0;
  std::uint64_t inode = 0;
};

/// What went over the wire in one direction.
struct Wire {
  std::string bytes;              ///< What of it is kept: always the beginning.
  std::uint64_t length = 0;       ///< All that went, what is out of files included.
  std::vector<FileSlice> slices;  ///< Of a response, in order.

  /// How much of it can be shown, with what is out of files.
  std::uint64_t kept() const;
  bool is_cut() const { return kept() < length; }
};

/// One run of a script on the way to the response.
struct Run {
  std::string runner;
  std::string script;
  std::vector<std::string> command;
  std::vector<std::string> environment;  ///< "NAME=value".
  std::string folder;
  std::optional<std::string> redirected_to;
  /// Who ran it: a process of its own, one that the server keeps, or an external server.
  enum class Way { fresh, persistent, external } way = Way::fresh;
  int process = 0;                   ///< 0: it is not known, or it was its own.
  std::uint64_t run_of_process = 0;  ///< Which of that process, from 1 on; 0: nobody counted.
  std::string external;              ///< Its address.
  std::optional<int> exit_status;
  std::optional<int> signal;
  std::chrono::nanoseconds queue_wait{0};  ///< For a process or a slot.
  std::string waited_for;                  ///< If that was long: "a process: 4 of 4 busy".
  std::chrono::nanoseconds start{0};       ///< Until its process ran.
  std::chrono::nanoseconds duration{0};
  std::chrono::nanoseconds processor_time{0};
  std::uint64_t peak_memory_kib = 0;
  std::vector<std::string> error_lines;
  std::size_t more_error_lines = 0;
};

struct Recorded {
  std::uint64_t number = 0;   ///< From 1 on, since the server was started.
  std::uint64_t repeats = 0;  ///< The exchange that it repeats; 0: none.
  bool is_in_progress = false;
  std::chrono::system_clock::time_point time;  ///< When its head had arrived.
  std::chrono::nanoseconds head_wait{0};       ///< From the head's first byte to its last.
  std::chrono::nanoseconds first_byte{0};      ///< From the head's end to the first byte of the response.
  std::chrono::nanoseconds duration{0};  ///< From the head's end to that of the response; until now if in progress.
  std::string client;
  std::uint16_t client_port = 0;
  std::string server;
  std::uint16_t server_port = 0;
  std::string site;  ///< Empty: none of the settings.
  std::string method;
  std::string target;
  int status = 0;                ///< 0: no response has begun.
  std::uint64_t body_bytes = 0;  ///< Of the response's body, as far as they were sent.
  std::string kind;              ///< "file", "listing", "script", "problem", …; empty: nothing answered.
  std::string answered_by;       ///< The same in words.
  std::size_t error_count = 0;   ///< Lines that its scripts wrote to their error streams.
  std::vector<Finding> findings;
  std::vector<Run> runs;
  std::vector<std::string> trail;
  Wire request;
  Wire response;
};

/// Milliseconds, as they are told to programs.
inline double millis(std::chrono::nanoseconds span) { return std::chrono::duration<double, std::milli>(span).count(); }

/// The names that stand for `status` in a filter: "404", or "4xx" for all of a hundred. False: `wanted` is neither.
bool is_status_filter(std::string_view wanted);
bool status_passes(int status, std::string_view wanted);

}  // namespace porter::exchange
