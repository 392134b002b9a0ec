// What happened: one request with its response, as facts. Every output (the lines of the log, the access log, the
// control interface) is made from these and from nothing else.
//
// A turn (server/connection/turn.hpp) fills it in while it answers; the status and the bytes are the writer's alone
// (server/response/writer.hpp). Once the request is over it goes to the journal, and does not change any more.
#pragma once

#include <chrono>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "core/findings/finding.hpp"

namespace porter::server {

// What answered a request.
struct ByFile {};
struct ByListing {};
struct ByStartPage {};
struct ByOptions {};
struct ByRedirect {
  std::string location;
};
/// The last of the exchange's runs.
struct ByScript {};
/// The page for the first of the exchange's findings; made by the last of its runs, if that is there for it.
struct ByProblem {
  std::string number;  ///< Told to a client elsewhere in place of the finding; else empty.
};
/// std::monostate: nothing did; the client left first.
using AnsweredBy =
    std::variant<std::monostate, ByFile, ByListing, ByStartPage, ByOptions, ByRedirect, ByScript, ByProblem>;

/// How a script was run.
struct RunOrderFacts {
  std::string command;      ///< The words, each with a zero behind it.
  std::string environment;  ///< "NAME=value", each with a zero behind it.
  std::string folder;       ///< Where it ran.
};

/// One run of a script on the way to the response.
struct RunFacts {
  std::string runner;                        ///< What ran it: "php-cgi", "program".
  std::string script;                        ///< Its path on disk.
  std::uint32_t script_below_root = 0;       ///< Where in it that below the document root begins; 0: it is not there.
  bool is_for_problem = false;               ///< It was to make the page for a problem.
  bool was_left_waiting = false;             ///< The client left before its turn came: it has not begun.
  std::string language;                      ///< As the settings call it; of others, what ran it.
  std::optional<std::string> redirected_to;  ///< It answered with a local redirect to this path.
  /// Who has run it that is there for one run after another.
  struct Persistent {
    pid_t process = 0;      ///< 0: that is not known.
    std::uint64_t run = 0;  ///< Which run of that process it is, from 1 on; 0: that is not known.
    std::string external;   ///< Where others have started it; empty: the server has.
  };
  std::optional<Persistent> persistent;  ///< nullopt: a process of its own did.
  std::optional<int> exit_status;        ///< Once it has ended by itself.
  std::optional<int> signal;             ///< Once it has been ended by one.
  std::chrono::microseconds duration{0};
  std::chrono::microseconds processor_time{0};
  long peak_memory_kib = 0;
  std::chrono::nanoseconds queue_wait{0};      ///< For a process or a slot.
  std::chrono::nanoseconds went_on{0};         ///< After its client had left.
  std::string waited_for;                      ///< If that was long: "a process: 4 of 4 busy".
  std::chrono::nanoseconds start{0};           ///< What starting its process took.
  std::shared_ptr<const RunOrderFacts> order;  ///< Null: it is not kept.
  std::vector<std::string> error_lines;        ///< Of what it wrote to its error stream, the first.
  std::size_t more_error_lines = 0;            ///< How many followed.
};

/// Fields of the request that the access log alone tells of; empty if they were not there.
struct FieldsForAccessLog {
  std::string host;
  std::string referrer;
  std::string user_agent;
};

// Of these many are made in a second, and each is written into memory that is no longer near: so it is kept small.
struct Exchange {
  std::chrono::system_clock::time_point time;   ///< When its head had arrived.
  std::chrono::steady_clock::time_point begun;  ///< The same, for measuring.
  std::chrono::nanoseconds duration{0};         ///< From then to the end of the response.
  std::string client;                           ///< The client's address.
  std::shared_ptr<const std::string> site;      ///< Its name; null: no site of the settings.
  bool is_one_of_several = false;               ///< There are other sites, so its name is worth telling.
  // As the client sent them; they may hold anything.
  std::string method;
  std::string target;
  int minor_version = 1;                         ///< Of HTTP/1.x.
  std::unique_ptr<FieldsForAccessLog> fields{};  ///< Null where there is no access log.

  int status = 0;                ///< 0: the client left before a response began.
  std::uint64_t body_bytes = 0;  ///< Of the response's body, as far as they were sent.
  std::uint64_t received = 0;    ///< Bytes that came over its connection since the exchange before.
  std::uint64_t sent = 0;        ///< The same of bytes that went over it.
  AnsweredBy by;
  bool is_by_fallback = false;    ///< It stands for a path that leads to no file.
  std::vector<Finding> findings;  ///< The first is the one that was answered with, if one was.
  std::vector<RunFacts> runs;
  std::vector<std::string> trail;  ///< How it was found what the request leads to.

  std::chrono::steady_clock::time_point ended() const {
    return begun + std::chrono::duration_cast<std::chrono::steady_clock::duration>(duration);
  }
};

/// How many lines its scripts wrote to their error streams.
std::size_t error_count(const Exchange& exchange);
/// A copy, without what is for the access log alone.
Exchange copy_of(const Exchange& exchange);
/// The same for the records, to which that passes which they alone tell of.
Exchange facts_to_keep(Exchange& exchange);
/// About what an exchange takes in memory.
std::size_t bytes_of(const Exchange& exchange);

}  // namespace porter::server
