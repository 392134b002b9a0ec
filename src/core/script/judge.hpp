// Judging a run: from what a script wrote and how it ended to the finding that says what went wrong.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/findings/finding.hpp"
#include "core/script/interpreters.hpp"
#include "core/script/script_head.hpp"

namespace porter::script {

/// What is known of a run that has ended.
struct RunReport {
  std::string path;                ///< The script.
  std::string document_root;       ///< Of its site.
  std::string command;             ///< What a person would type to run it by hand.
  std::optional<int> exit_status;  ///< It ended by itself; as far as that is known.
  std::optional<int> signal;       ///< It was ended by one.
  bool was_too_slow = false;       ///< It was ended because its time was up.
  bool was_stopped = false;        ///< It was ended for another reason that is not its own.
  long seconds_allowed = 0;
  std::size_t address_space = 0;  ///< The limits that it ran under; 0: none.
  std::size_t processor_time = 0;
  std::uint64_t input_length = 0;  ///< Bytes of the request's body.
  std::optional<ScriptHead> head;  ///< The response head, if a whole and well-formed one was read.
  std::optional<ScriptHeadProblem> head_problem;
  std::size_t head_limit = 0;        ///< Not 0: its output reached this size without an end of the head.
  std::uint64_t body_written = 0;    ///< Bytes that it wrote after its head.
  bool body_was_expected = true;     ///< False for a response to HEAD and for statuses without a body.
  std::string output_start;          ///< The beginning of its output, if there was no head.
  std::string error_text;            ///< The end of its error stream.
  std::optional<Finding> failure{};  ///< What has kept its response from arriving, if that is no doing of its own.
  std::string start{};  ///< The beginning of the script, where its end tells that it was not found out how to run it.
};

/// True if the run has ended in another way than a program that did its work.
bool has_failed(const RunReport& report);

/// The most telling problem of the run; nullopt if it went well.
std::optional<Finding> judge_run(const RunReport& report);

/// The finding for a run that has begun a page of which its head does not tell the type.
Finding content_type_missing(const RunReport& report);

/// Why executing `path` directly failed with `error` (errno); `start` is the beginning of the file.
Finding judge_start(const std::string& path, const std::string& command, int error, std::string_view start);

/// True if a page of PHP still holds a short tag, "<?" and white space, that was meant to begin code.
/// A remark on a script at `path` that did not fail, by what its error stream shows: it sent mail and no program does
/// that, or PHP has dropped what was sent.
std::optional<Finding> remark_on(const std::string& path, std::string_view error_text);

bool holds_short_tag(std::string_view page);

/// The last `count` lines of `text` that are not blank, in order.
std::vector<std::string> last_lines(std::string_view text, std::size_t count);

/// The name of a signal, such as "SIGSEGV".
std::string signal_name(int signal);

}  // namespace porter::script
