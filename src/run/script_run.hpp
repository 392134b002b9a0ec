// A script run as the server runs it: the head of its response, its page, and the verdict on both. Both the server and
// a rehearsal use it, so what is rehearsed is what happens.
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
#include "core/script/judge.hpp"
#include "core/script/script_head.hpp"
#include "core/settings/settings.hpp"
#include "core/sites/resolve.hpp"
#include "run/fresh/run.hpp"
#include "run/script_order.hpp"
#include "run/script_source.hpp"

namespace porter::run {

/// verdict() comes first, and once; it says what may be called then. All on the thread of the executor.
class ScriptRun {
 public:
  /// Starts the script in a process of its own; a finding if that cannot be done. What `order` refers to must outlive
  /// the run.
  static std::variant<std::shared_ptr<ScriptRun>, Finding> start(const asio::any_io_executor& executor, RunSet& set,
                                                                 ScriptOrder order);
  /// The run that goes on in `source`. What `order` refers to must outlive it.
  ScriptRun(std::shared_ptr<ScriptSource> source, const ScriptOrder& order);

  // What a run has come to, as far as its response goes.

  /// It speaks to the client directly: what read_page() gives is sent as it is.
  struct Direct {};
  /// Another path of the site is answered with in its place (RFC 3875, section 6.2.2). The run has been stopped.
  struct LocalRedirect {
    std::string location;
  };
  /// head() and what read_page() gives are the response.
  struct Page {
    bool is_whole = false;           ///< The run has ended, and gathered() is all of its page.
    std::optional<Finding> finding;  ///< What was wrong all the same, of a whole one.
  };
  /// There is nothing to show but the finding, if there is one: a run that was stopped for a reason that is not its own
  /// has none.
  struct NoPage {
    std::optional<Finding> finding;
  };
  using Verdict = std::variant<Direct, LocalRedirect, Page, NoPage>;

  /// Waits until it is known what the run comes to.
  asio::awaitable<Verdict> verdict();

  /// The head that the script wrote; only after a verdict that speaks of a page or a redirect.
  const script::ScriptHead& head() const { return *report_.head; }
  /// False where no page is wanted: its head allows none, or the request was HEAD.
  bool sends_body() const { return report_.body_was_expected; }
  /// What was read of the page and not yet handed on by read_page().
  std::string_view gathered() const { return pending_; }
  /// The next part of the page; empty: it has ended. It lives until the next call.
  asio::awaitable<Pieces> read_page();
  /// Waits for the end of the process, and judges the run.
  asio::awaitable<std::optional<Finding>> judge();
  /// The same if the end comes within a moment; else nullopt, and the script goes on alone.
  asio::awaitable<std::optional<Finding>> judge_soon();
  /// True if it did not come to its own end, so that its page is not whole. After a judgement.
  bool was_cut_off() const {
    return report_.signal.has_value() || source_->was_too_slow() || source_->failure().has_value();
  }

  /// It is ended for a reason that is not its own.
  void stop();
  /// Its client has left: what it writes goes nowhere from now on, and it goes on for as long as a run may take.
  void leave();
  /// Waits for its end after that.
  asio::awaitable<void> end_for_nobody();

  /// While the client is waited for, the script is not to blame, and no time limit of it runs.
  void pause_clock() { source_->set_deadline(Clock::time_point::max()); }
  /// The script has been given all that there is: its time begins anew.
  void resume_clock() {
    source_->set_deadline(Clock::now() + (report_.head ? limits_.total_time : limits_.first_byte));
  }

  ScriptSource& source() { return *source_; }
  const std::shared_ptr<ScriptSource>& shared_source() { return source_; }
  /// How it ended, once it has been judged.
  const std::optional<ProcessEnd>& end() const { return end_; }
  const script::RunReport& report() const { return report_; }

 private:
  /// Reads until the response head is whole. False: there is none to come; judge() tells why.
  asio::awaitable<bool> read_head();
  /// Waits for a moment for what follows the head. True: the script has ended, and all of its page is in gathered().
  /// Whether the script, which computes still, may be about to tell that it has failed; its page has come since
  /// `begun`.
  bool may_still_complain(Clock::time_point begun);
  asio::awaitable<bool> gather_page();
  /// After a judgement that has come to `finding`: whether that is shown in place of the page.
  bool has_no_page_for(const Finding& finding) const;
  std::span<char> buffer();
  /// Takes note of what was read into buffer().
  void note_read(std::size_t got);

  /// Adds what only a judgement needs.
  void complete_report();

  std::shared_ptr<ScriptSource> source_;
  const sites::ScriptFound& script_;
  const std::string_view document_root_;
  Limits limits_;
  bool is_direct_;
  bool is_explained_;
  script::RunReport report_;
  std::optional<ProcessEnd> end_;
  std::optional<std::chrono::nanoseconds> work_at_page_;  ///< What it had worked when its page was first seen to pause.
  std::string pending_;                                   ///< Read, and not yet handed on.
  std::string handed_;                                    ///< What read_page() has made of it.
  std::array<char, 4 * 1024> small_buffer_;
  std::unique_ptr<char[]> large_buffer_;  ///< Once the small one was filled by one reading.
};

}  // namespace porter::run
