// Settings: what the server is told to do, as one immutable value. A request keeps the snapshot that it began with.
#pragma once

#include <chrono>
#include <cstddef>
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "core/http/head.hpp"

namespace porter {

/// Bounds on what one request, one run or one connection may take. Each has its own finding.
struct Limits {
  http::HeadLimits head;
  std::uint64_t body = 64ULL * 1024 * 1024;  ///< Bytes of a request's body.
  std::chrono::seconds head_time{15};        ///< From the first byte of a request to the end of its head.
  std::chrono::seconds body_pause{30};       ///< Without progress on a body, either way.
  std::chrono::seconds idle_time{30};        ///< Between requests on a kept connection.
  std::size_t connections = 1024;
  std::chrono::seconds first_byte{30};     ///< From a script's start to its first output.
  std::size_t answer_head = 64 * 1024;     ///< Bytes of the head that a script writes.
  std::size_t error_stream = 64 * 1024;    ///< Bytes kept of what a script writes to its error stream.
  std::chrono::seconds total_time{300};    ///< For a run in all; not while its output still flows.
  std::size_t address_space = 4ULL << 30;  ///< Bytes of a run's memory; not for runtimes that reserve more.
  std::size_t processor_time = 120;        ///< Seconds of a run.
  std::size_t open_files = 1024;           ///< Of a run.
  std::size_t runs = 0;                    ///< Scripts at once; 0: two for each core.
  std::size_t queue = 64;                  ///< Requests that wait for a run to end.
  std::chrono::seconds stop_time{5};       ///< What a stopping server gives to the requests in progress.
};

/// Sets the limit called `name` ("head-time", "body", …; sizes in bytes, times in seconds). False: there is none of
/// that name, or `value` is out of its range.
bool set_limit(Limits& limits, std::string_view name, std::uint64_t value);

/// The names that set_limit() knows, separated by spaces.
std::string limit_names();

/// One virtual host.
struct Site {
  std::string name;
  std::vector<std::string> hosts;  ///< Names that it answers to beside localhost, names below it, and IP addresses.
  std::string document_root;       ///< An absolute path without links or a final slash.
  std::vector<std::string> index_files{"index.html", "index.htm", "index.php"};
  bool listing = true;
  std::vector<std::string> script_folders{"cgi-bin"};
};

struct Settings {
  Site site;
  Limits limits;
  std::string search_path;  ///< Where interpreters are looked for: folders separated by colons, as in PATH.
};

}  // namespace porter
