// What PHP does beside running scripts: the settings files that it reads at its start, the limits in them, and where it
// keeps what it has compiled.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "run/fresh/run.hpp"
#include "run/pool/pool.hpp"

namespace porter::machine {

namespace asio = boost::asio;

/// The folder in which PHP keeps what it has compiled, for all servers of this user; it is made if it is not there.
/// Empty: it cannot be made.
std::string opcode_folder();
/// Forgets what was compiled: PHP knows it by the time of its source alone, and another file may have come that has the
/// same. At once; what was set aside, by whomever, is removed by the next call, which takes a while.
void set_opcodes_aside(const std::string& folder);
void remove_opcodes_aside(const std::string& folder);

/// What a PHP says of itself.
struct PhpFacts {
  std::vector<std::string> files;            ///< Settings files that it reads, and folders in which it looks for more.
  std::optional<std::uint64_t> post_size;    ///< Bytes of a request's body that it takes (post_max_size).
  std::optional<std::uint64_t> upload_size;  ///< The same for one file (upload_max_filesize).
};

/// Asks the PHP that is started by `order`; nullopt: it does not say.
asio::awaitable<std::optional<PhpFacts>> ask_php(run::RunSet& runs, run::PoolOrder order);

/// Where the bounds on a request's body contradict each other: those of the server and those of each PHP that its sites
/// are run by. Asks each of these, and waits for that.
std::vector<Finding> body_contradictions(const Settings& settings, const std::string& search_path);

/// Has a pool know the files that its processes are started from.
asio::awaitable<void> watch_files(run::RunSet& runs, std::shared_ptr<run::Pool> pool);

}  // namespace porter::machine
