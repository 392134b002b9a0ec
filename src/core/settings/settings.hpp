// Settings: what is served where, and under which limits. An immutable snapshot once the server runs; a reload makes
// another.
#pragma once

#include <chrono>
#include <cstddef>
#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "core/http/head.hpp"
#include "core/http/media_type.hpp"
#include "core/script/interpreters.hpp"
#include "core/settings/address.hpp"

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
  std::size_t response_head = 64 * 1024;   ///< Bytes of the head that a script writes.
  std::size_t error_stream = 64 * 1024;    ///< Bytes kept of what a script writes to its error stream.
  std::chrono::seconds total_time{300};    ///< For a run in all; not while its output still flows.
  std::size_t address_space = 4ULL << 30;  ///< Bytes of a run's memory; not for runtimes that reserve more.
  std::size_t processor_time = 120;        ///< Seconds of a run.
  std::size_t open_files = 1024;           ///< Of a run.
  std::size_t runs = 0;                    ///< Scripts that work at once; 0: two for each core.
  std::size_t runs_most = 128;             ///< Scripts at once in all, streaming ones included.
  std::size_t pool_memory = 1ULL << 30;    ///< Bytes of all persistent processes together.
  std::size_t queue = 1024;                ///< Requests that wait for a run to end.
  std::chrono::seconds queue_time{30};     ///< How long a request waits for that.
  std::chrono::seconds stop_time{5};       ///< What a stopping server gives to the requests in progress.

  bool operator==(const Limits&) const = default;
};

/// One limit, as settings and options name it.
struct LimitRow {
  std::string_view name;
  enum class Unit { bytes, seconds, count } unit;
  std::uint64_t least;
  std::uint64_t most;
  bool is_of_a_run;  ///< It may be set for one interpreter as well.
};

/// All limits, in the order in which they are shown.
const std::vector<LimitRow>& limit_rows();

/// Sets the limit called `name` ("head-time", "body", …; sizes in bytes, times in seconds). False: there is none of
/// that name, or `value` is out of its range.
bool set_limit(Limits& limits, std::string_view name, std::uint64_t value);

/// The value of the limit called `name`, which limit_rows() has, in the units of set_limit().
std::uint64_t limit_of(const Limits& limits, std::string_view name);

/// The names that set_limit() knows, separated by spaces.
std::string limit_names();

/// A folder or a file from anywhere, shown below a path of a site.
struct Mount {
  std::string path;       ///< The decoded path, such as "/archive"; no final slash but that of "/".
  std::string target;     ///< An absolute path on disk without links: a folder, or one file, which may be a script.
  std::string written{};  ///< The same as an absolute path in the words of the settings, links and all.
  /// The target as a program that answers one request after another by FastCGI; nullopt: it is none.
  std::optional<script::Interpreter> program{};
};

/// What answers for paths that match nothing.
struct Fallback {
  std::string path;    ///< It is for paths below this one: "/", "/shop"; decoded, no final slash but its own.
  std::string root;    ///< The folder that `script` lies below: the document root or what is mounted.
  std::string script;  ///< Its path from there.
  std::string url;     ///< The path by which a request would reach it.
};

/// One virtual host.
struct Site {
  std::string name;
  /// Host names that it answers to, in lower case: exact ones, "*.name" for all names below a name, "*" for any.
  std::vector<std::string> hosts;
  std::string document_root;     ///< An absolute path without links or a final slash.
  std::string written_root;      ///< The same in the words of the settings, links and all.
  bool is_until_stop = false;    ///< No settings name it: it is shown until the server stops.
  bool is_root_missing = false;  ///< It was not there when the settings were read.
  /// What the settings name in place of document_root, and does not exist: the one from before is kept. Else empty.
  std::string missing_root{};
  std::vector<Address> addresses;  ///< Of its own; none: those of the settings.
  std::vector<std::string> index_files{"index.html", "index.htm", "index.php"};
  std::optional<bool> listing;  ///< Whether folders are listed; nullopt: those are for which there is no fallback.
  std::vector<std::string> script_folders{"cgi-bin"};
  std::optional<std::vector<std::string>> interpreters;  ///< The languages that may run; nullopt: all.
  /// All languages as this site has them; none: as the settings have them.
  std::vector<script::Interpreter> own_languages{};
  std::vector<std::string> hidden_files_shown{".well-known"};  ///< Of the names that begin with a dot; "*": all.
  std::vector<std::string> forbidden{};  ///< Patterns of names and paths that are never sent or run: "data/", "*.inc".
  std::vector<Fallback> fallbacks;       ///< The one for "/" among them.
  std::vector<std::string> linked_folders{};  ///< Real paths to which links may lead out of the root.
  std::vector<std::pair<std::string, std::string>>
      response_headers;                      ///< Added to every response that has none of the name.
  std::map<int, std::string> problem_pages;  ///< Files below the root that are shown in place of our page, by status.
  std::vector<std::string> environment;      ///< "NAME=value" for its scripts.
  std::vector<Mount> mounts;
  bool leaves_running = false;  ///< What its scripts leave running lives on, until the server stops.
  bool shows_warnings = false;  ///< PHP shows its warnings and notices in its pages.
  bool has_time_limits = true;  ///< Else its scripts may take as long as they like, while a debugger holds them say.
};

/// Where the log of requests is kept beside the lines that the server shows.
struct AccessLog {
  std::string file;  ///< An absolute path; empty: there is none.
  enum class Format { combined, common, json } format = Format::combined;
  std::uint64_t largest = 64ULL * 1024 * 1024;  ///< Bytes, from which on a new file is begun.
  std::size_t older = 3;                        ///< How many of those before are kept.

  bool operator==(const AccessLog&) const = default;
};

/// Where the console is served, unless the settings say otherwise.
inline constexpr std::uint16_t kConsolePort = 8079;

/// What is kept of the exchanges with clients.
struct ExchangeKeeping {
  bool keep = true;
  std::uint64_t memory = 64ULL * 1024 * 1024;  ///< Bytes for all of them.
  std::uint64_t body = 1024ULL * 1024;         ///< Bytes of each body, either way.

  bool operator==(const ExchangeKeeping&) const = default;
};

/// The sites that share one address.
struct Listener {
  Address address;
  std::vector<std::size_t> sites;  ///< Indices into Settings::sites, in their order; none: a start page answers.
};

struct Settings {
  std::string file;                ///< Where they were read from, as an absolute path; empty: from options alone.
  std::string option;              ///< " --settings FILE", where a command needs that to find them.
  std::vector<Address> addresses;  ///< For the sites that have none of their own.
  std::vector<Site> sites;
  std::vector<script::Interpreter> interpreters = script::usual_interpreters();
  Limits limits;
  AccessLog access_log;
  ExchangeKeeping exchanges;
  std::optional<Address> console =
      Address{Address::Reach::this_computer, {}, kConsolePort};  ///< nullopt: there is none.
  std::optional<Address> metrics;                                ///< Where a monitor reads them; nullopt: nowhere.
  http::TypesByEnding media_types;                               ///< In place of the usual ones.

  /// The site called `name`; null: there is none.
  const Site* find_site(std::string_view name) const;
  /// The languages that `site` knows.
  const std::vector<script::Interpreter>& languages_of(const Site& site) const {
    return site.own_languages.empty() ? interpreters : site.own_languages;
  }
  /// Every address to listen on, each once, with its sites.
  std::vector<Listener> listeners() const;
  /// The common addresses that no site uses, so that they are not listened on.
  std::vector<Address> unused_addresses() const;
};

}  // namespace porter
