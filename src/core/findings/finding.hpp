// Findings: diagnosed problems, and the one catalogue of everything that is said about them.
//
// A Finding is a code and the facts of the case. Its sentence, its remedy and the status that goes with it come from
// the catalogue alone, so the problem page, the log and the client always say the same words.
#pragma once

#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace porter {

/// One kind of problem. Its stable name, as people and programs see it, is code_name().
enum class Code {
  // What a request asks for.
  path_not_found,
  encoded_slash,
  root_name_in_url,
  not_a_folder,
  no_index,
  outside_root,
  hidden_file,
  forbidden_path,
  link_leads_nowhere,
  fallback_is_page,
  backup_file,
  unreadable,
  special_file,
  document_root_gone,
  document_root_missing,
  file_vanished,
  precondition_failed,
  range_not_satisfiable,
  method_not_allowed,
  method_unknown,
  // How a request is written.
  malformed_request,
  malformed_target,
  malformed_body,
  coding_unknown,
  host_missing,
  host_malformed,
  host_not_served,
  host_elsewhere,
  version_unknown,
  tls_on_plain_port,
  request_line_too_long,
  head_too_large,
  too_many_fields,
  body_too_large,
  head_too_slow,
  body_too_slow,
  expectation_unknown,
  too_many_connections,
  // How a script ran.
  script_not_executable,
  script_needs_script_folder,
  interpreter_not_installed,
  interpreter_not_found,
  script_not_a_program,
  script_start_failed,
  first_line_carriage_return,
  byte_order_mark,
  wrong_architecture,
  library_missing,
  script_no_response_head,
  script_head_malformed,
  script_head_too_large,
  script_wrote_nothing,
  only_error_stream,
  no_content_type,
  body_shorter,
  body_longer,
  script_failed,
  script_error,
  module_missing,
  sanitizer_needs_addresses,
  out_of_memory,
  php_memory_limit,
  out_of_processor_time,
  read_past_input,
  wrong_working_directory,
  write_not_permitted,
  script_killed,
  script_too_slow,
  too_many_runs,
  waited_too_long,
  waits_are_long,
  localhost_unknown,
  script_too_many_redirects,
  persistent_not_answering,
  fastcgi_closed,
  fastcgi_broken,
  fastcgi_refused,
  external_unreachable,
  server_resources,
  spool_failed,
  server_stopping,
  source_sent_as_text,
  short_tags_off,
  mail_program_missing,
  left_running,
  persistent_ignored,
  php_post_too_large,
  interpreter_not_allowed,
  fallback_missing,
  // What stands in the settings.
  settings_unreadable,
  settings_not_a_file,
  settings_too_large,
  settings_not_utf8,
  settings_too_deep,
  settings_syntax,
  settings_unknown_key,
  settings_wrong_type,
  settings_bad_value,
  settings_bad_address,
  settings_no_port,
  settings_port_range,
  settings_bad_host,
  settings_host_twice,
  settings_no_root,
  settings_folder_missing,
  settings_root_kept,
  settings_folder_closed,
  settings_not_a_folder,
  settings_file_missing,
  settings_mounts_overlap,
  settings_interpreter_incomplete,
  settings_language_unknown,
  settings_ending_twice,
  settings_limit_range,
  settings_edit_refused,
  body_limits_differ,
  // How the server stands in its machine.
  port_taken,
  port_reserved,
  address_not_here,
  address_failed,
  log_unwritable,
  autostart_unavailable,
  program_replaced,
  server_not_running,
  server_unreachable,
  other_port,
  other_program,
  name_not_here,
  this_computer_only,
  address_unused,
  source_not_compiled,
  not_a_url,
  file_not_served,
  no_such_file,
  root_empty,
  rules_not_read,
  rules_forbid,
  stale_state,
  folder_missing,
  folder_closed,
  folder_is_file,
  several_servers,
  no_server_at,
  control_failed,
  state_failed,
  already_running,
  // How the server is control.
  bad_call,
  no_settings,
  stopping,
  internal_error,
  no_response_in_time,
  // What is kept of exchanges.
  exchange_unknown,
  exchange_gone,
  exchange_file_changed,
  exchange_not_repeatable,
  exchange_repeat_failed,
  // The console and its work.
  console_key_missing,
  console_host_foreign,
  console_origin_foreign,
  console_failed,
  metrics_failed,
  settings_changed_meanwhile,
  folder_unreadable,
  source_unreadable,
  rehearsal_not_a_script,
};

/// A named fact of a finding, such as {"file", "/srv/www/index.html"}.
using Fact = std::pair<std::string, std::string>;

struct Finding {
  Code code;
  std::vector<Fact> facts;

  /// The fact of that name; nullopt if the finding has none.
  std::optional<std::string_view> fact(std::string_view name) const;
};

/// The stable name, such as "path-not-found".
std::string_view code_name(Code code);

/// The status of a response that reports this problem.
int status_of(Code code);

/// A few words for a heading.
std::string_view title_of(Code code);

/// What is wrong, as one or two sentences with the facts in place.
std::string sentence_of(const Finding& finding);

/// What to do about it; never empty. It ends in a colon if there is a command to go with it.
std::string advice_of(const Finding& finding);
/// What can be typed, or written into a file, to follow the advice; empty if that is nothing certain.
std::string command_of(const Finding& finding);
/// Both, as one text.
std::string remedy_of(const Finding& finding);

/// Every code there is, in the order of the catalogue.
std::span<const Code> all_codes();

}  // namespace porter
