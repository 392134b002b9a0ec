// Orders: what is started for a script, and with what. The one place where they are made, for the server and for a
// rehearsal alike.
#pragma once

#include <sys/stat.h>

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "core/http/head.hpp"
#include "core/http/target.hpp"
#include "core/script/meta_variables.hpp"
#include "core/settings/settings.hpp"
#include "core/sites/resolve.hpp"
#include "run/fastcgi/run.hpp"
#include "run/fresh/run.hpp"
#include "run/pool/order.hpp"

namespace porter::run {

/// What runs a script in the end.
struct Runner {
  std::string name;              ///< Its program: "php-cgi", "perl" by the script's first line, "program".
  bool reserves_memory = false;  ///< Its addresses cannot be limited, since it reserves far more than it uses.
};

/// What runs `script`. It reads the start of a script that is run directly.
Runner runner_of(const sites::ScriptFound& script);

/// Remembers what runs the scripts of one thread, for as long as their files do not change.
class Runners {
 public:
  /// As runner_of(). The response lasts until the next call. Of a script that is new or not what it was, no compiled
  /// code stays in the folder `opcodes` that is older than that.
  const Runner& of(const sites::ScriptFound& script, const std::string& opcodes);

 private:
  struct Known {
    struct stat info {};
    Runner runner;
  };
  std::unordered_map<std::string, Known> known_;
};

/// What a script is told of a request, so that it need not be composed for each that is the same but for the port it
/// comes from.
struct KnownRequest {
  script::Environment environment;  ///< All but REMOTE_PORT.
  Limits limits;                    ///< Those of the interpreter included.
  std::string records;              ///< What a pooled process is sent, with a port of five digits.
  std::size_t port_at = 0;          ///< Where those stand among them.
};

/// The request that a script is to answer.
struct ScriptRequest {
  const sites::ScriptFound& script;
  const Runner& runner;
  const Site& site;
  const http::RequestHead& head;
  const http::Target& target;
  script::Caller caller;
  const Supplies& in;
  int problem_status = 0;               ///< Not 0: the script makes the page for a problem with this status.
  bool is_explained = false;            ///< Whoever asked may be told why it failed.
  const KnownRequest* known = nullptr;  ///< Not null: it has no body, and of the caller only the port is needed.
};

/// What a script is told of a `request` without a body, where the settings have `limits`.
KnownRequest known_request(const ScriptRequest& request, const Limits& limits);

/// True if it is run by a process that is there for one run after another.
bool is_persistent(const ScriptRequest& request);

/// What a script reads.
struct ScriptInput {
  InputKind kind = InputKind::nothing;
  files::Descriptor file{};               ///< Of InputKind::file.
  std::optional<std::uint64_t> length{};  ///< Of the request's body; nullopt: it has none.
};

/// What is to be run. Its views last as long as what its request refers to; it is needed until the script has been
/// started.
struct ScriptOrder {
  const sites::ScriptFound& script;
  const Runner& runner;
  std::string_view site;  ///< Its name.
  std::string_view document_root;
  bool expects_body = true;  ///< False for HEAD.
  bool speaks_directly = false;
  bool is_explained = false;  ///< An error is told in place of the part of a page before it.
  bool is_measured = true;    ///< Somebody wants to know what processor time it takes.
  const KnownRequest* known = nullptr;
  std::uint16_t client_port = 0;
  std::uint64_t input_length = 0;
  Limits limits;  ///< Those of the interpreter included.
  RunOrder run;   ///< For a process of its own; a pooled one takes the environment as parameters.

  /// What the script is told. The environment of `run` is empty where that is known.
  script::Environment environment() const;
};

/// The order for `request`, with `input` to be read and `limits` as the settings have them. For a pooled one there
/// is neither a command nor are there limits, which it was started with before.
ScriptOrder order_script(const ScriptRequest& request, ScriptInput input, const Limits& limits,
                         Runs runs = Runs::fresh);

/// What is asked of a process that is there for many runs.
FastCgiRun::Order pool_request(ScriptOrder& order);
/// The same for one that others have started: it is told the interpreter's directives with each request.
FastCgiRun::Order external_request(ScriptOrder& order);

/// Who calls, as a script is told: the ends of the connection, and the host that was asked for, or the address if it
/// was none.
script::Caller caller_of(const std::string& client_address, std::uint16_t client_port,
                         const std::string& server_address, std::uint16_t server_port, const std::string& host);

/// How often one request is sent on by scripts to another path of the site.
inline constexpr std::size_t kMostLocalRedirects = 10;
/// The finding for a request that was, and was to be sent on to `location` then.
Finding too_many_redirects(const std::string& location);

/// What a person would type to run the script by hand.
std::string command_by_hand(const sites::ScriptFound& script);

/// Bytes of addresses that a run by `runner` may take; 0: any.
std::size_t address_limit(const Runner& runner, const Limits& limits);

/// The beginning of a script, as far as it says what it is.
std::string start_of(const std::string& path);

}  // namespace porter::run
