// A script run as the server runs it: its command, its limits, the head of its answer, its page, and the judgement in
// the end. Both the server and a rehearsal use it, so what is rehearsed is what happens.
#pragma once

#include <array>
#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <unordered_map>
#include <variant>
#include <vector>

#include "core/findings/finding.hpp"
#include "core/script/answer_head.hpp"
#include "core/script/judge.hpp"
#include "core/settings/settings.hpp"
#include "core/sites/resolve.hpp"
#include "run/run.hpp"

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
  /// As runner_of(). The answer lasts until the next call.
  const Runner& of(const sites::ScriptFound& script);

 private:
  struct Known {
    struct stat info {};
    Runner runner;
  };
  std::unordered_map<std::string, Known> known_;
};

/// What is to be run, and with what. Its views need last only until the script has been started.
struct ScriptOrder {
  const sites::ScriptFound& script;
  const Runner& runner;
  std::string_view document_root{};
  std::string_view method{};
  std::string_view query{};  ///< An indexed one becomes arguments of a program that is run directly.
  script::Environment environment{};
  InputKind input = InputKind::nothing;
  files::Descriptor input_file{};
  std::uint64_t input_length = 0;
  Limits limits{};
  std::shared_ptr<void> ticket{};  ///< Held until the run has ended.
};

class ScriptRun {
 public:
  /// Starts the script; a finding if that cannot be done.
  static std::variant<std::shared_ptr<ScriptRun>, Finding> start(const asio::any_io_executor& executor, RunSet& set,
                                                                 ScriptOrder order);

  /// Reads until the answer head is whole. False: there is none to come; judge() tells why.
  asio::awaitable<bool> read_head();
  /// The head; only after read_head() was true.
  const script::AnswerHead& head() const { return *report_.head; }
  /// Waits for a moment for what follows the head. True: the script has ended, and all of its page is in gathered().
  asio::awaitable<bool> gather_page();
  /// What was read of the page and not yet handed on by read_page().
  std::string_view gathered() const { return pending_; }
  /// The next part of the page; empty: it has ended. The view lives until the next call.
  asio::awaitable<std::string_view> read_page();
  /// Waits for the end of the process, and judges the run.
  asio::awaitable<std::optional<Finding>> judge();
  /// The same if the end comes within a moment; else nullopt, and the script goes on alone.
  asio::awaitable<std::optional<Finding>> judge_soon();

  /// After a judgement of a run with a head that has ended in `finding`: its page, if there is one, cannot be shown, so
  /// the finding is shown in its place.
  bool has_no_page_for(const Finding& finding) const;

  /// A HEAD request, or a status without a body: the page is not wanted, and its length proves nothing.
  void expect_no_body() { report_.body_was_expected = false; }
  /// It is ended for a reason that is not its own.
  void stop();

  /// While the client is waited for, the script is not to blame, and no time limit of it runs.
  void pause_clock() { run_->set_deadline(Clock::time_point::max()); }
  /// The script has been given all that there is: its time begins anew.
  void resume_clock() { run_->set_deadline(Clock::now() + (report_.head ? limits_.total_time : limits_.first_byte)); }

  Run& run() { return *run_; }
  const std::shared_ptr<Run>& shared_run() { return run_; }
  const RunEnd& end() const { return end_; }
  const script::RunReport& report() const { return report_; }
  std::uint64_t page_bytes() const { return report_.body_written; }

 private:
  ScriptRun(const asio::any_io_executor& executor, std::shared_ptr<Run> run, const ScriptOrder& order);

  std::span<char> buffer();
  /// Takes note of what was read into buffer().
  void note_read(std::size_t got);
  void take_end(const RunEnd& end);

  asio::any_io_executor executor_;
  std::shared_ptr<Run> run_;
  Limits limits_;
  script::RunReport report_;
  RunEnd end_;
  std::string pending_;  ///< Read, and not yet handed on.
  std::string handed_;   ///< What read_page() has made of it.
  std::array<char, 4 * 1024> small_buffer_;
  std::unique_ptr<char[]> large_buffer_;  ///< Once the small one was filled by one reading.
};

/// What a person would type to run the script by hand.
std::string command_by_hand(const sites::ScriptFound& script);

/// True for a program that speaks to the client directly ("nph-…"; RFC 3875, section 5).
bool speaks_directly(const sites::ScriptFound& script);

}  // namespace porter::run
