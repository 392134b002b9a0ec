// The catalogue of findings. In a sentence, {name} stands for that fact; a part in [brackets] is left out if one of the
// facts in it is missing.
#include <array>

#include "core/findings/finding.hpp"

namespace porter {
namespace {

struct Entry {
  Code code;
  std::string_view name;
  int status;
  std::string_view title;
  std::string_view sentence;
  std::string_view remedy;
  std::string_view command = {};  ///< What can be typed, to stand behind the remedy; empty: nothing.
};

constexpr auto kCatalogue = std::to_array<Entry>({
    {Code::path_not_found, "path-not-found", 404, "Nothing at this path",
     "{target} leads to {file}, which does not exist: there is no \"{missing}\" in {folder}.",
     "[Upper and lower case count; there is {case_url} .][Did you mean {nearest_url} ?] Check the spelling, upper and "
     "lower "
     "case included, or put the file there.[ The "
     "project looks as if {script} answered for all paths that lead to no file; if so, let it:]",
     "[{command}]"},
    {Code::encoded_slash, "encoded-slash", 404, "An encoded slash in the path",
     "{target} holds the encoded slash %2F, so a part of the path is \"{part}\", and no file in {folder} can have such "
     "a "
     "name.",
     "Write a plain slash where a folder is meant. Scripts get such paths, decoded, in PATH_INFO."},
    {Code::root_name_in_url, "root-name-in-url", 404, "The document root's name is in the URL",
     "The URL begins with /{name}, which is the name of the document root itself ({root}). The document root is what / "
     "shows, so its name is not part of any URL.",
     "Leave it out: {url}"},
    {Code::not_a_folder, "not-a-folder", 404, "A file, not a folder",
     "{target} goes on below {file}, but that is a file and not a script, so there is nothing below it.",
     "Open {url} for the file itself."},
    {Code::no_index, "no-index", 403, "No index file, and listing is off",
     "The folder {folder} has none of the index files ({names}), and its listing is switched off.",
     "Put an index.html there, or switch the listing on."},
    {Code::outside_root, "outside-root", 403, "The path leads out of the document root",
     "{target} leads through a link[, {link},] to a place outside of the document root {root}[: {leads_to}].",
     "Put the files themselves below the document root.[ Or allow links to that folder, in the settings of the "
     "site {site}: {allow}.][ Or show it as a mount:]",
     "[{mount}]"},
    {Code::hidden_file, "hidden-file", 403, "A hidden file",
     "{file} has a name that begins with a dot, and such files are not shown, since they often hold secrets.",
     "Give it a name without the dot if it is meant to be seen:", "mv {file_quoted} {plain_quoted}"},
    {Code::forbidden_path, "forbidden-path", 404, "Kept back by the settings",
     "{file} is not shown: the key forbidden of the site \"{site}\" holds {pattern}.",
     "Take the pattern out of the settings if it is meant to be seen."},
    {Code::link_leads_nowhere, "link-leads-nowhere", 404, "A link that leads nowhere",
     "{link} is a link to {leads_to}, which does not exist.",
     "Put what is missing there, or have the link lead elsewhere."},
    {Code::fallback_is_page, "fallback-is-page", 404, "A missing file, for which a page is no answer",
     "There is no {file}. The fallback {page} answers pages only, and a style sheet, a script, a picture or data was "
     "asked "
     "for.",
     "Check the spelling, or put the file there."},
    {Code::backup_file, "backup-file", 403, "An editor's backup file",
     "{file} looks like a backup copy that an editor has left, and such copies are not shown, since they hold the "
     "source "
     "of scripts.",
     "Rename it if it is meant to be seen, or remove it:", "rm {file_quoted}"},
    {Code::unreadable, "unreadable", 403, "No permission to read",
     "The server is not allowed to read {file} (its permissions are {mode}[, its owner is {owner}]).",
     "Allow it:", "chmod {change} {file_quoted}"},
    {Code::special_file, "special-file", 403, "Not a file that can be sent",
     "{file} is a {kind}, not a file or a folder.", "Put an ordinary file there, or remove it:", "rm {file_quoted}"},
    {Code::document_root_gone, "document-root-gone", 500, "The document root is gone",
     "The document root {root} cannot be opened any more: {reason}.", "Put the folder back:", "mkdir -p {root_quoted}"},
    {Code::document_root_missing, "document-root-missing", 500, "The document root does not exist",
     "The settings name the document root {root}, which does not exist.",
     "[Did you mean {nearest} ?] Correct the path in the settings, or make the folder:", "mkdir -p {root_quoted}"},
    {Code::file_vanished, "file-vanished", 500, "The file changed while it was being read",
     "{file} could not be opened any more after it had been found: {reason}.", "Load the page once more."},
    {Code::precondition_failed, "precondition-failed", 412, "Precondition failed",
     "The request holds the condition {condition}, and {file} does not meet it.",
     "Fetch the file again without the condition; it has changed since."},
    {Code::range_not_satisfiable, "range-not-satisfiable", 416, "No such range",
     "The request asks for the range {range}, and {file} has only {size} bytes.",
     "Ask for a range that begins below {size}."},
    {Code::method_not_allowed, "method-not-allowed", 405, "Method not allowed",
     "{method} cannot be used on {target}: it is a {kind}, which answers {allowed} only.",
     "Use GET to read it. To have {method} answered, send it to a script."},
    {Code::method_unknown, "method-unknown", 501, "Unknown method", "This server does not know the method {method}.",
     "Use GET, HEAD, POST, PUT, PATCH, DELETE or OPTIONS."},
    {Code::malformed_request, "malformed-request", 400, "Malformed request",
     "The request is not HTTP as RFC 9112 has it: {problem}[ ({detail})].",
     "Correct the client that sent it; curl -v shows what a request looks like."},
    {Code::malformed_target, "malformed-target", 400, "Malformed URL", "The request target {problem}.",
     "Correct the URL: a space is %20, a percent sign is %25, and a slash only separates folders."},
    {Code::malformed_body, "malformed-body", 400, "Malformed body", "The request's body cannot be read: {problem}.",
     "Correct the client that sent it: either one true Content-Length, or the chunked coding."},
    {Code::coding_unknown, "coding-unknown", 501, "Unknown transfer coding",
     "The request's body comes in the transfer coding \"{coding}\", and only chunked is known here.",
     "Send the body with a Content-Length or chunked."},
    {Code::host_missing, "host-missing", 400, "No Host field",
     "An HTTP/1.1 request needs exactly one Host field, and this one has {count}.",
     "Send one Host field, such as:", "Host: localhost"},
    {Code::host_malformed, "host-malformed", 400, "Malformed Host field",
     "The Host field holds \"{host}\", which is neither a host name nor an IP address, with or without a port.",
     "Send a Host field such as:", "Host: localhost:{port}"},
    {Code::host_not_served, "host-not-served", 421, "Not a name of this server",
     "The request is for the host name {host}, and at {address} no site answers to it.[ The names there are: {names}.] "
     "Refusing others protects against DNS rebinding.",
     "[Open {url} instead. ]If the name is to lead here, let a site answer to it, by its key hosts[, or by "
     "typing{colon}]",
     "[{command}]"},
    {Code::host_elsewhere, "host-elsewhere", 421, "A site of another address",
     "{host} is a name of the site \"{site}\", which does not answer at {address}.",
     "Open it where it answers:", "{url}"},
    {Code::version_unknown, "version-unknown", 505, "Unknown HTTP version",
     "The request is in {version}, and this server speaks HTTP/1.1 and HTTP/1.0.", "Use HTTP/1.1."},
    {Code::tls_on_plain_port, "tls-on-plain-port", 400, "https on an http port",
     "The client speaks TLS (https), and this port speaks plain http.",
     "Open the same address with http:// in place of https://."},
    {Code::request_line_too_long, "request-line-too-long", 414, "The URL is too long",
     "The request line is longer than {limit} bytes.",
     "Send what is long in the body of a POST instead of in the URL, or allow more, by a limit in the settings:",
     "[[limits]\nrequest-line = 65536"},
    {Code::head_too_large, "head-too-large", 431, "The request's header is too large",
     "The request line and the header fields together are larger than {limit} bytes.",
     "Clear this site's cookies in the browser; they are the usual cause. Or allow more, by a limit in the settings:",
     "[[limits]\nhead = \"128 KiB\""},
    {Code::too_many_fields, "too-many-fields", 431, "Too many header fields",
     "The request has more than {limit} header fields.",
     "Send fewer header fields, or allow more, by a limit in the settings:", "[[limits]\nfields = 500"},
    {Code::body_too_large, "body-too-large", 413, "The body is too large",
     "The request's body is larger than {limit}[ (it announces {length} bytes)].",
     "Send less at once, or allow more, by a limit in the settings:", "[[limits]\nbody = \"1 GiB\""},
    {Code::head_too_slow, "head-too-slow", 408, "The request did not arrive",
     "The connection was open for {seconds} seconds, and no whole request header had come.",
     "End the header with an empty line, and send it without pauses, or allow more time, by a limit in the settings:",
     "[[limits]\nhead-time = 120"},
    {Code::body_too_slow, "body-too-slow", 408, "The body did not arrive",
     "For {seconds} seconds nothing more came of the body that the request announces.",
     "Send as many bytes as Content-Length says, or allow longer pauses, by a limit in the settings:",
     "[[limits]\nbody-pause = 300"},
    {Code::expectation_unknown, "expectation-unknown", 417, "Unknown expectation",
     "The request expects \"{expectation}\", and only 100-continue is known here.", "Leave the Expect field out."},
    {Code::too_many_connections, "too-many-connections", 503, "Too many connections",
     "The server has {limit} connections open, which is the most that is allowed.",
     "Try again in a moment; close what keeps so many connections open, or allow more, by a limit in the settings:",
     "[[limits]\nconnections = 4096"},
    {Code::script_not_executable, "script-not-executable", 403, "The script is not executable",
     "{file} lies in a script folder, where files are run and not shown, but its permissions ({mode}) do not let it be "
     "run.",
     "Let it be run:", "chmod +x {file_quoted}"},
    {Code::script_needs_script_folder, "script-outside-script-folder", 403, "A script outside of a script folder",
     "{file} is a {language} script, and such a file is run only in a script folder ({folders}). Its source is not "
     "shown.",
     "To show it as text, give it the ending .txt. To run it where it is, set anywhere = true for {language} in the "
     "settings, or name it as the fallback of its site. Else move it:",
     "[mkdir -p {folder_to_make} && ]mv {file_quoted} {folder_quoted}/"},
    {Code::interpreter_not_installed, "interpreter-not-installed", 500, "The interpreter is not installed",
     "{file} is run by {program}, and that is not installed (looked for in {path}).",
     "Install it:", "sudo apt-get install {package}"},
    {Code::interpreter_not_found, "interpreter-not-found", 500, "The script's first line names a missing interpreter",
     "The first line of {file} is \"{line}\", and {program} does not exist.",
     "[Did you mean {nearest}? ]Write a first line such as \"#!/usr/bin/env {name}\"[, or install the interpreter: "
     "sudo apt-get install {package}]."},
    {Code::script_not_a_program, "not-a-program", 500, "Neither a script nor a program",
     "{file} is executable, but it has no first line that names an interpreter (\"#!…\") and is not a compiled program "
     "for "
     "this machine.",
     "Begin it with a line such as:", "#!/bin/sh"},
    {Code::script_start_failed, "script-start-failed", 500, "The script could not be started",
     "{file} could not be started: {reason}.", "Try it by hand:", "{command}"},
    {Code::first_line_carriage_return, "first-line-carriage-return", 500, "The first line ends in a carriage return",
     "The first line of {file} ends in a carriage return, as editors on Windows write it, so the system looks for a "
     "program "
     "of the name \"{program}\" with that character at its end.",
     "Take the carriage returns out:", "sed -i 's/\\r$//' {file_quoted}"},
    {Code::byte_order_mark, "byte-order-mark", 500, "A byte-order mark before the first line",
     "{file} begins with a byte-order mark, three bytes that some editors put before the text, so its first line "
     "\"{line}\" is "
     "not recognised.",
     "Take the mark out:", "sed -i '1s/^\\xEF\\xBB\\xBF//' {file_quoted}"},
    {Code::wrong_architecture, "wrong-architecture", 500, "A program for another machine",
     "{file} is a compiled program, but not one that this machine can run[ ({reason})].",
     "See what it was built for, and build it on this machine:", "file {file_quoted}"},
    {Code::library_missing, "library-missing", 500, "A library is missing",
     "{file} needs the library {library}, which cannot be loaded.",
     "See which libraries it finds, and install the missing one:", "ldd {file_quoted}"},
    {Code::script_no_response_head, "no-response-head", 500, "The script printed no header",
     "The script {file} printed no header: its output begins with \"{output}\".",
     "Print the header lines and an empty line first:", "Content-Type: text/html"},
    {Code::script_head_malformed, "response-head-malformed", 500, "A malformed line in the header",
     "Line {line} of the header that {file} printed is not a field: \"{text}\".",
     "Write each line of the header as \"Name: value\", then an empty line, then the page."},
    {Code::script_head_too_large, "response-head-too-large", 500, "The script's header is too large",
     "{file} printed {limit} bytes, and its header had not ended.",
     "End the header with an empty line before the page begins, or allow more, by a limit in the settings:",
     "[[limits]\nresponse-head = \"1 MiB\""},
    {Code::script_wrote_nothing, "wrote-nothing", 500, "The script wrote nothing",
     "{file} ended with exit status 0 and wrote nothing at all to its standard output[; to the error stream it wrote: "
     "{last}].",
     "Let it print a header, an empty line and a page, and run it by hand to see what it does:", "{command}"},
    {Code::only_error_stream, "only-error-stream", 500, "The script wrote to the error stream only",
     "{file} ended with exit status 0 and wrote no page, only to the error stream: {last}",
     "Let it print its page to standard output, and run it by hand to see what goes where:", "{command}"},
    {Code::no_content_type, "no-content-type", 500, "No Content-Type",
     "The header that {file} printed names no Content-Type.",
     "Let it print, before the empty line:", "Content-Type: text/html; charset=utf-8"},
    {Code::body_shorter, "body-shorter-than-announced", 500, "The page is shorter than announced",
     "{file} announced a Content-Length of {announced} bytes and wrote {written}.",
     "Count bytes, not characters, or leave Content-Length out; the server does not need it."},
    {Code::body_longer, "body-longer-than-announced", 500, "The page is longer than announced",
     "{file} announced a Content-Length of {announced} bytes and wrote more than that.",
     "Count bytes, not characters, or leave Content-Length out; the server does not need it."},
    {Code::script_failed, "script-failed", 500, "The script failed",
     "{file} ended with exit status {status}[. The last line of the script's error stream is: {last}].",
     "Fix what the error stream says, or run it by hand to see more:", "{command}"},
    {Code::script_error, "script-error", 500, "An error in the script",
     "{place} failed at line {line}: {message}[ (perhaps a ; is missing at the end of line {open_line})]",
     "Fix line {line} of {place}, and try it by hand:", "{command}"},
    {Code::module_missing, "module-missing", 500, "A module is not installed",
     "{file} uses the {language} module {module}, which is not installed here.", "Install it:", "{install}"},
    {Code::sanitizer_needs_addresses, "sanitizer-needs-addresses", 500, "The sanitizer needs more addresses",
     "{file} was compiled with a sanitizer, which reserves terabytes of addresses, and a run may have {limit}: {last}",
     "Raise the limit address-space in the settings, for all scripts or for one language:",
     "[[limits]\naddress-space = \"100 TiB\""},
    {Code::out_of_memory, "out-of-memory", 500, "The script ran out of memory",
     "{file} wanted more memory than a run is allowed to have[ ({limit})]: {last}",
     "Let it work on less at once, or allow more, by a limit in the settings, such as address-space = \"16 GiB\". To "
     "see "
     "how much it takes, run it by hand:",
     "{command}"},
    {Code::php_memory_limit, "php-memory-limit", 500, "The script reached PHP's memory limit",
     "{file} wanted more memory than PHP's directive memory_limit allows: {last}",
     "Let it work on less at once, or raise that directive, in the settings:",
     "[[interpreter.PHP]\nsettings.memory_limit = \"512M\""},
    {Code::out_of_processor_time, "out-of-processor-time", 500, "The script ran out of processor time",
     "{file} used the {seconds} seconds of processor time that a run is allowed to have.",
     "Look for a loop that does not end, or allow more, by a limit in the settings, such as processor-time = 600. To "
     "see "
     "where it stays, run it by hand:",
     "{command}"},
    {Code::read_past_input, "read-past-input", 500, "The script read more input than there was",
     "{file} wanted to read more of the request's body than the request has ({length} bytes): {last}",
     "Read CONTENT_LENGTH bytes, and none when that variable is missing; try it with a body:",
     "uporter rehearse --method POST --body FILE {file_quoted}"},
    {Code::wrong_working_directory, "wrong-working-directory", 500, "A file is looked for in the wrong folder",
     "{file} wants to open {wanted}, and relative names are looked for in {folder}, where it is not. There is one at "
     "{found}.",
     "Name the file from the script's own folder:", "{relative}"},
    {Code::write_not_permitted, "write-not-permitted", 500, "The script is not allowed to write there",
     "{file} wants to write {wanted}, and the user that the server runs as is not allowed to: {last}",
     "Allow it:", "chmod u+w {wanted_quoted}"},
    {Code::script_killed, "script-killed", 500, "The script was ended by a signal",
     "{file} was ended by signal {signal} ({name})[. The last line of the script's error stream is: {last}].",
     "Run it by hand to see where:", "{command}"},
    {Code::script_too_slow, "script-too-slow", 504, "The script took too long",
     "{file} wrote nothing for {seconds} seconds and was stopped.",
     "Find what it waits for, or allow more time, by the limits first-byte and total-time in the settings, such as "
     "first-byte = 300, or by time-limits = false for its site. To see it wait, run it by hand:",
     "{command}"},
    {Code::too_many_runs, "too-many-runs", 503, "Too many scripts at once",
     "{running} scripts are running and {waiting} requests wait, which is the most that is allowed[; "
     "those that run are {holders}].",
     "Try again in a moment. If it stays so, find out why those scripts do not end, or let more wait, by a limit "
     "in the settings:",
     "[[limits]\nqueue = {queue}"},
    {Code::waited_too_long, "waited-too-long", 503, "Timed out in the queue",
     "The script waited for {seconds} seconds, since {why}[: {holders}].",
     "Find out why those scripts do not end; uporter status lists them. Or let more run at once, by a limit in "
     "the settings:",
     "[[{table}]\n{key} = {example}"},
    {Code::waits_are_long, "waits-are-long", 503, "Requests wait for long",
     "In the last minute a request waited {seconds} s for {what}: {why}.",
     "See what runs (uporter status), or allow more, in the settings:", "{line}"},
    {Code::localhost_unknown, "localhost-unknown", 200, "A name below .localhost that programs do not find",
     "Names below .localhost lead here in browsers, but programs of this computer do not find {name}.",
     "Have the system know them:", "sudo apt-get install libnss-myhostname"},
    {Code::script_too_many_redirects, "too-many-local-redirects", 500, "Scripts redirect in a circle",
     "{count} local redirects followed one another, the last one to {location}.",
     "Let one of the scripts answer with a page instead of a Location field."},
    {Code::persistent_not_answering, "persistent-not-answering", 500, "The interpreter cannot be persistent",
     "{program} ended with exit status {status} before it took its first request[; it wrote: {last}].",
     "It was started with a FastCGI socket as its standard input, and has to take requests there. Fix that error, or "
     "start "
     "a process for each request, in the settings:",
     "{fresh_setting}"},
    {Code::fastcgi_closed, "fastcgi-closed", 502, "The response broke off",
     "{program} closed its connection in the middle of the response of {file}[. The last line of the error stream is: "
     "{last}].",
     "Look for what ends it, or run the script in a process of its own to see more:", "{command}"},
    {Code::fastcgi_broken, "fastcgi-broken", 502, "The response is not FastCGI",
     "{program} broke the FastCGI protocol while it answered for {file}: {problem}.",
     "See whether it is the program that was meant, and whether it speaks FastCGI at all.", ""},
    {Code::fastcgi_refused, "fastcgi-refused", 503, "The interpreter refused the request",
     "{program} did not take the request for {file}: {reason}.",
     "Give it more processes, or look at its own log for the reason.", ""},
    {Code::external_unreachable, "external-unreachable", 502, "No external server can be reached",
     "None of the external servers for {file} took the connection: {tries}.",
     "Start them, or correct where they are, by external in the table of the interpreter. Or have the server start its "
     "own, by taking that line away.",
     ""},
    {Code::server_resources, "server-resources", 503, "The server is out of resources",
     "The server could not {action}: {reason}.",
     "Close other programs and connections, and try again[; or raise the limit of {limit_of} before it is started:]",
     "[ulimit -n {limit}]"},
    {Code::spool_failed, "temporary-folder", 503, "The request's body cannot be kept",
     "A body of unknown length is kept in the temporary folder {folder} until it is whole, and that failed: {reason}.",
     "Make room there, or have the server use another folder and restart it:", "export TMPDIR=/var/tmp"},
    {Code::server_stopping, "server-stopping", 503, "The server is being stopped",
     "The server was stopped while {file} was still running.", "Start the server again and load the page once more."},
    {Code::source_sent_as_text, "source-sent-as-text", 200, "PHP in a file that is sent as it is",
     "{file} holds \"<?php\", and a file with this ending is sent as it is, so its code reaches the browser.",
     "Give it the ending .php, or let PHP have this ending too, in the settings for PHP:",
     "[[interpreter.PHP]\nendings = [[\".php\", \".phtml\", \"{ending}\"]"},
    {Code::short_tags_off, "short-tags-off", 200, "A short tag that PHP does not read",
     "The page that {file} printed still holds \"<?\": short tags are switched off, so what follows is not run.",
     "Write \"<?php\" in place of \"<?\":", "sed -i 's/<? /<?php /g; s/<?$/<?php/' {file_quoted}"},
    {Code::mail_program_missing, "mail-program-missing", 200, "No program sends mail",
     "{file} sent mail, but this computer has no program that sends it ({program}), so mail() answered false.",
     "Have mails written into a file, in the settings, or install a mail program (msmtp-mta):",
     "[[interpreter.PHP]\nsettings.sendmail_path = \"tee -a /tmp/mails.txt\""},
    {Code::left_running, "left-running", 200, "What a script left running was ended",
     "{file} left this running, and it was ended with its run: {left}.",
     "Let it live until the server stops, in the settings:", "[[site.{site}]\nleave-running = true"},
    {Code::persistent_ignored, "persistent-ignored", 200, "persistent has no effect",
     "{file} has a first line of its own, which decides how it is run, so persistent = true of its language has no "
     "effect "
     "on it.",
     "If it speaks FastCGI, mount it as a program, in the settings:",
     "[[site.{site}.mounts.\"/\"]\ntarget = \"{file}\"\npersistent = true"},
    {Code::php_post_too_large, "php-post-too-large", 200, "PHP dropped what was sent",
     "{file} was sent {length} bytes, and PHP takes {limit} bytes at most (post_max_size), so it got nothing of them: "
     "$_POST and $_FILES are empty.",
     "Allow more, in the settings:",
     "[[interpreter.PHP]\nsettings.post_max_size = \"64M\"\nsettings.upload_max_filesize = \"64M\""},
    {Code::interpreter_not_allowed, "interpreter-not-allowed", 403, "A language that the site does not run",
     "{file} is a script ({language}), and the site \"{site}\" runs only these: {languages}.",
     "Add it to the site's key in the settings:", "[[site.{site}]\ninterpreters = [[{with_language}]"},
    {Code::fallback_missing, "fallback-missing", 500, "The fallback script is gone",
     "The site \"{site}\" has {file} answer for paths that match nothing, and there is no such file.",
     "Put the file there, or change the site's key \"fallback\"."},
    {Code::settings_unreadable, "settings-unreadable", 500, "The settings cannot be read",
     "The settings {file} cannot be read: {reason}.", "Allow it:", "chmod u+r {file_quoted}"},
    {Code::settings_not_a_file, "settings-not-a-file", 500, "Not a file", "{file} is {kind}, and settings are a file.",
     "Name the file in it, usually uporter.toml."},
    {Code::settings_too_large, "settings-too-large", 500, "The settings are too large",
     "{file} is larger than {limit}, and settings never are.", "Name the right file, usually uporter.toml."},
    {Code::settings_not_utf8, "settings-not-utf8", 500, "The settings are not UTF-8",
     "This line holds bytes that are not UTF-8, in which TOML is written.",
     "Save the file as UTF-8, or find out what it is:", "file uporter.toml"},
    {Code::settings_too_deep, "settings-too-deep", 500, "Settings that nest too deep",
     "Here a table, a list or a dotted key goes more than {most} levels deep, and no setting does.",
     "Correct the line; the sample settings show the form of each key."},
    {Code::settings_syntax, "settings-syntax", 500, "The settings are not TOML", "This is not TOML: {problem}.",
     "Write KEY = VALUE, with strings in double quotes, lists in square brackets, and the name of a table in square "
     "brackets "
     "on a line of its own."},
    {Code::settings_unknown_key, "settings-unknown-key", 500, "An unknown key", "There is no key \"{key}\" in {table}.",
     "[Did you mean \"{nearest}\"? ]The keys there are: {keys}."},
    {Code::settings_wrong_type, "settings-wrong-type", 500, "A value of the wrong kind",
     "{key} is {found}, and should be {wanted}.", "Write the value in the form of the sample settings."},
    {Code::settings_bad_value, "settings-bad-value", 500, "Invalid value", "{key} {problem}.", "{advice}"},
    {Code::settings_bad_address, "settings-bad-address", 500, "Not an address",
     "\"{address}\" is not an address: before the port stands neither localhost, nor network, nor an IP address.",
     "Write one of these: \"localhost:8080\" (this computer), \"network:8080\" (all of its addresses), "
     "\"192.168.7.2:8080\", \"[::1]:8080\"."},
    {Code::settings_no_port, "settings-no-port", 500, "An address without a port", "\"{address}\" names no port.",
     "Write the port behind a colon:", "\"{address}:8080\""},
    {Code::settings_port_range, "settings-port-range", 500, "A port out of range",
     "{port} is not a port: ports are numbers from 1 to 65535.", "Use one above 1023, such as 8080."},
    {Code::settings_bad_host, "settings-bad-host", 500, "Not a host name", "\"{host}\" is not a host name.",
     "Write a name without port and scheme: \"gulls.localhost\", \"*.gulls.localhost\" for all names below it, or "
     "\"*\" for "
     "any."},
    {Code::settings_host_twice, "settings-host-twice", 500, "Two sites with one host",
     "At the address {address} the host {host} belongs to the site \"{other}\", and here to \"{site}\" as well.",
     "Give one of them another host or another address."},
    {Code::settings_no_root, "settings-no-root", 500, "A site without a document root",
     "The site \"{site}\" has no document root.",
     "Name the folder that it shows:", "[[site.{site}]\ndocument-root = \"FOLDER\""},
    {Code::settings_folder_missing, "settings-folder-missing", 500, "A folder that does not exist",
     "{key} names the folder {folder}, which does not exist.",
     "[Did you mean {nearest} ?] Correct the path, or make the folder:", "mkdir -p {folder_quoted}"},
    {Code::settings_root_kept, "settings-root-kept", 500, "The document root from before is kept",
     "The settings name the document root {folder} for the site \"{site}\", which does not exist, so the site goes on "
     "showing {root}.",
     "[Did you mean {nearest} ?] Correct the path, or make the folder and reload:",
     "mkdir -p {folder_quoted} && uporter reload"},
    {Code::settings_folder_closed, "settings-folder-closed", 500, "A folder that cannot be read",
     "{key} names the folder {folder}, which cannot be read: {reason}.", "Allow it:", "chmod u+rx {folder_quoted}"},
    {Code::settings_not_a_folder, "settings-not-a-folder", 500, "A file where a folder should be",
     "{key} names {folder}, which is not a folder.", "Name the folder that it lies in."},
    {Code::settings_file_missing, "settings-file-missing", 500, "A file that does not exist",
     "{key} names {file}, and there is no such file.", "Correct the path; it starts from the document root."},
    {Code::settings_mounts_overlap, "settings-mounts-overlap", 500, "Mounts that overlap",
     "The mounts {path} and {other} of one site overlap, so one would hide a part of the other.",
     "Give one of them a path beside the other."},
    {Code::settings_interpreter_incomplete, "settings-interpreter-incomplete", 500, "An interpreter without command",
     "The language {language} is not known, and to make it known both endings and a command are needed.",
     "[Did you mean {nearest}? ]Those that are known are {languages}; for another one write:",
     "[[interpreter.{language}]\nendings = [[\".xyz\"]\ncommand = \"PROGRAM\""},
    {Code::settings_language_unknown, "settings-language-unknown", 500, "An unknown language",
     "There is no language \"{language}\".", "[Did you mean {nearest}? ]Those that are known are {languages}."},
    {Code::settings_ending_twice, "settings-ending-twice", 500, "An ending of two languages",
     "The ending {ending} belongs to {language} already.", "Take it from one of them."},
    {Code::settings_limit_range, "settings-limit-range", 500, "A limit out of range",
     "{key} has to be from {least} to {most}{unit}.",
     "Write a number in that range; a size may also be written as \"64 MiB\"."},
    {Code::settings_edit_refused, "settings-edit-refused", 409, "The settings were not changed", "{problem}.",
     "{advice}"},
    {Code::body_limits_differ, "body-limits-contradict", 413, "The bounds of a body contradict each other",
     "[Of the site {site}: ]Up to {larger} are taken by {larger_who} ({larger_key}), but only {smaller} by "
     "{smaller_who} "
     "({smaller_key}).",
     "Let the bounds agree: body is one of the limits in the settings; those of PHP stand in the table of the "
     "interpreter there, or in its php.ini:",
     "[[interpreter.PHP]\nsettings.post_max_size = \"100M\"\nsettings.upload_max_filesize = \"100M\""},
    {Code::port_taken, "port-taken", 500, "The port is taken", "Port {port} is taken by {holder}.",
     "Use another port[: uporter serve {folder_quoted} --port {other}], or end that program."},
    {Code::port_reserved, "port-reserved", 500, "Privileged port",
     "Port {port} is below 1024, and only the administrator may open it.",
     "Use a port from 1024 on[: uporter serve {folder_quoted} --port {other}], or allow it for good:",
     "echo net.ipv4.ip_unprivileged_port_start={port} | sudo tee /etc/sysctl.d/60-porter.conf && sudo sysctl --system"},
    {Code::address_not_here, "address-not-here", 500, "Not an address of this machine",
     "{address} is not an address of this machine.", "See which it has:", "ip -brief address"},
    {Code::address_failed, "address-failed", 500, "The address cannot be opened",
     "The address {address} cannot be opened: {reason}.", "Use another one."},
    {Code::log_unwritable, "log-unwritable", 500, "The access log cannot be written",
     "{file} cannot be written: {reason}. Serving goes on, and {lost} lines were lost so far.",
     "Make room or allow it, then have it opened again:", "df -h {folder_quoted}"},
    {Code::autostart_unavailable, "autostart-unavailable", 503, "Start at login is not available",
     "The service manager of this session (systemctl --user) did not do it, so nothing was changed: the server starts "
     "at "
     "login as it did before, if it did.",
     "Try again in a session with systemd, or have the desktop start it at login:",
     "mkdir -p ~/.config/autostart && printf '%s\\n' '[[Desktop Entry]' Type=Application 'Name=Upright Porter' "
     "\"Exec={client} start --settings {settings}\" > ~/.config/autostart/upright-porter.desktop"},
    {Code::program_replaced, "program-replaced", 500, "The program was replaced",
     "The program of this server was replaced, by a newer one say, since it was started; it still runs the old one.",
     "Restart it:", "uporter restart{option}"},
    {Code::server_not_running, "server-not-running", 503, "The server is not running",
     "No server runs for the settings {settings}[, so nothing answers at {url}].",
     "Start it:", "uporter start{option}"},
    {Code::server_unreachable, "server-unreachable", 503, "The server does not answer",
     "The server[ (process {process})] of {subject} does not answer: {reason}.",
     "Restart it:", "uporter restart{option}"},
    {Code::other_port, "other-port", 404, "Another port",
     "Nothing of this server listens on port {port}; it listens on {addresses}.", "Open it there:", "{url}"},
    {Code::other_program, "other-program", 404, "Another program has the port",
     "Port {port} is held by {holder}, so a request there goes to that program and not to this server.",
     "Open the server's own address[: {url}], or end that program[:]", "{command}"},
    {Code::name_not_here, "name-not-here", 404, "The name does not lead to this machine",
     "The name {host} leads to {found}, so a browser does not come to this server.",
     "Use a name below .localhost, which needs no set-up, or make the name known on this machine:",
     "echo '127.0.0.1 {host}' | sudo tee -a /etc/hosts"},
    {Code::this_computer_only, "this-computer-only", 403, "Only this computer can reach it",
     "{host} is an address of this computer, and nothing answers there: port {port} is open to this computer only, at "
     "{addresses}.",
     "Open {url} on this computer. To let other devices in, write in the settings, at their top:",
     "addresses = [[\"network:{port}\"]"},
    {Code::address_unused, "address-unused", 200, "An address without a site",
     "No site uses the address {address}, so it is not opened.",
     "Take it out of addresses, or take the addresses of its own away from a site."},
    {Code::source_not_compiled, "source-not-compiled", 403, "A program that is not compiled",
     "{file} is the source of a program in {language}, and a script folder runs programs. Its source is not shown.",
     "Compile it, and ask for the program:", "{compile}"},
    {Code::not_a_url, "not-a-url", 400, "Not a URL",
     "{what} is not a URL that a browser could ask this server for: {problem}.",
     "Write http://HOST:PORT/PATH, or the path of a file or folder."},
    {Code::file_not_served, "file-not-served", 404, "Outside every document root",
     "{file} lies below no document root and no mount, so no URL leads to it.",
     "Put it below a document root[, or show its folder below a site:]", "[{command}]"},
    {Code::no_such_file, "no-such-file", 404, "There is no such file",
     "There is no {file}[: there is no folder {folder}].", "[Did you mean {nearest}? ]Check the spelling."},
    {Code::root_empty, "root-empty", 404, "An empty document root", "The document root {root} is empty.",
     "Put a page there:", "echo '<h1>Kittiwake sails at 07:40</h1>' > {root_quoted}/index.html"},
    {Code::rules_not_read, "rules-not-read", 200, "Rules for another server",
     "{file} is not read by this server; it has {directives}.",
     "Write what it says in the settings[; the keys that do the same are {keys}]."},
    {Code::rules_forbid, "rules-forbid", 200, "What a project forbids is served",
     "{files} forbid what is served here, since such files are not read.",
     "Forbid it in the settings:", "[[site.{site}]\nforbidden = [[{patterns}]"},
    {Code::stale_state, "stale-state", 500, "Left behind by a server that was killed",
     "{file} was left behind by a server that was killed (process {process}).",
     "Nothing needs to be done; the next start takes its place:", "uporter start{option}"},
    {Code::folder_missing, "folder-missing", 404, "No such folder", "There is no folder {folder}.",
     "Make it first:", "mkdir -p {folder_quoted}"},
    {Code::folder_closed, "folder-closed", 403, "A folder that cannot be opened",
     "The folder {folder} cannot be opened: {reason}.", "Allow it:", "chmod u+rx {folder_quoted}"},
    {Code::folder_is_file, "folder-is-file", 404, "A file, not a folder", "{file} is a file, not a folder.",
     "Serve the folder that it lies in:", "uporter serve {folder_quoted}"},
    {Code::several_servers, "several-servers", 409, "Several servers run", "Several servers run: {servers}.",
     "Say which one is meant:", "{command} --at {port}"},
    {Code::no_server_at, "no-server-at", 404, "No server at this port",
     "No server of yours listens on port {port}[; those that run are {servers}].",
     "See all that run:", "uporter status --all"},
    {Code::control_failed, "control-failed", 500, "The control socket cannot be opened",
     "The control socket {file} cannot be opened: {reason}.",
     "Allow it, or name another place for it: XDG_RUNTIME_DIR=FOLDER"},
    {Code::state_failed, "state-failed", 500, "No place for the server's state",
     "The folder {folder} for the server's state cannot be used: {reason}.",
     "Allow it, or name another place: XDG_STATE_HOME=FOLDER, XDG_RUNTIME_DIR=FOLDER"},
    {Code::already_running, "already-running", 409, "A server runs already",
     "A server runs for {settings} already[ (process {process})].", "See it:", "uporter status{option}"},
    {Code::bad_call, "bad-call", 422, "Invalid API request", "{problem}.",
     "The calls are described in docs/control.openapi.yaml."},
    {Code::no_settings, "no-settings", 409, "A server without settings",
     "This server shows the folder {folder} and goes by no settings, so there are none to read again or to change.",
     "Add the folder to settings, and have those served:", "uporter site add {name} {folder_quoted} && uporter start"},
    {Code::stopping, "stopping", 409, "The server is stopping",
     "The server is stopping, so it reads and changes nothing any more.",
     "Start it again, and repeat this:", "uporter start"},
    {Code::internal_error, "internal-error", 500, "An error in the program itself",
     "{program} met an error of its own while it worked on {action}: {reason}.",
     "Try again. If it happens again, report it with this sentence."},
    {Code::no_response_in_time, "no-response-in-time", 504, "No response in time",
     "{what} did not answer within {seconds} seconds.",
     "See whether it lies on a drive, a share or a name server that has gone, and try again."},
    {Code::exchange_unknown, "exchange-unknown", 404, "No such exchange", "There is no exchange {number}[; {reason}].",
     "See which there are:", "uporter exchanges{option}"},
    {Code::exchange_gone, "exchange-gone", 410, "The exchange is gone",
     "The exchange {number} is not kept any more, since newer ones needed the room ({limit} for all).",
     "Let more be kept, in the settings, such as:", "[[exchanges]\nmemory = \"256 MiB\""},
    {Code::exchange_file_changed, "exchange-file-changed", 410, "The file has changed since",
     "{length} bytes of the response of exchange {number} came out of {file}, and that file has changed since, or is "
     "gone.",
     "Ask for it again:", "uporter again {number}{option}"},
    {Code::exchange_not_repeatable, "exchange-not-repeatable", 409, "An exchange that cannot be repeated",
     "The exchange {number} cannot be sent again: {reason}.", "Send it by hand, or with another body."},
    {Code::exchange_repeat_failed, "exchange-repeat-failed", 502, "The request could not be sent again",
     "Exchange {number} was sent again to {address}, and no response came: {reason}.",
     "See what listens there:", "uporter status{option}"},
    {Code::console_key_missing, "console-key-missing", 401, "The key is missing or old",
     "The console controls this computer's server, so it needs the console's key.",
     "Open it with its key:", "uporter open console"},
    {Code::console_host_foreign, "console-host-foreign", 421, "Not the console's name",
     "The request is for the host {host}, and the console answers only to {names}.",
     "Open {url} instead. Refusing others protects against DNS rebinding."},
    {Code::console_origin_foreign, "console-origin-foreign", 403, "A call of another page",
     "The page {origin} has sent a call to the console, and only the console's own page may.",
     "Close that page if you did not make it."},
    {Code::console_failed, "console-failed", 500, "The console cannot be served",
     "The console cannot be served at {address}: {reason}.",
     "Name another address in the settings: console = \"localhost:PORT\""},
    {Code::metrics_failed, "metrics-failed", 500, "The metrics cannot be served",
     "The metrics cannot be served at {address}: {reason}.",
     "Name another address in the settings: metrics = \"localhost:PORT\""},
    {Code::settings_changed_meanwhile, "settings-changed-meanwhile", 409, "The settings have changed meanwhile",
     "The file {file} was saved by another program since it was read here, so nothing was written.",
     "Read it again, and put your change into what stands there now."},
    {Code::folder_unreadable, "folder-unreadable", 404, "The folder cannot be read",
     "The folder {folder} cannot be read: {reason}.", "Choose another one, or allow it."},
    {Code::source_unreadable, "source-unreadable", 404, "The file cannot be read", "{file} cannot be shown: {reason}.",
     "Choose another one."},
    {Code::rehearsal_not_a_script, "rehearsal-not-a-script", 409, "Nothing to run",
     "{path} of {site} is shown as it is: it is not a script, and does not lie in a script folder.",
     "Open it in the browser instead."},
});

constexpr auto codes_in_order() {
  std::array<Code, kCatalogue.size()> out{};
  for (std::size_t i = 0; i < out.size(); ++i) out[i] = kCatalogue[i].code;
  return out;
}
constexpr auto kCodes = codes_in_order();

constexpr bool rows_stand_in_the_order_of_the_codes() {
  for (std::size_t i = 0; i < kCatalogue.size(); ++i)
    if (static_cast<std::size_t>(kCatalogue[i].code) != i) return false;
  return true;
}
static_assert(rows_stand_in_the_order_of_the_codes());

const Entry& entry(Code code) { return kCatalogue[static_cast<std::size_t>(code)]; }

/// Fills `pattern` in; nullopt if a fact is missing.
std::optional<std::string> fill(std::string_view pattern, const Finding& finding) {
  std::string out;
  std::size_t at = 0;
  while (at < pattern.size()) {
    if (pattern[at] == '{') {
      const std::size_t end = pattern.find('}', at);
      const auto value = finding.fact(pattern.substr(at + 1, end - at - 1));
      if (!value) return std::nullopt;
      out += *value;
      at = end + 1;
    } else if (pattern.substr(at).starts_with("[[")) {
      out += '[';
      at += 2;
    } else if (pattern[at] == '[') {
      const std::size_t end = pattern.find(']', at);
      if (const auto part = fill(pattern.substr(at + 1, end - at - 1), finding)) out += *part;
      at = end + 1;
    } else {
      out += pattern[at++];
    }
  }
  return out;
}

std::string filled(std::string_view pattern, const Finding& finding) {
  std::string out = fill(pattern, finding).value_or(std::string(pattern));
  if (!out.empty() && out.front() == ' ') out.erase(0, 1);
  return out;
}

}  // namespace

std::optional<std::string_view> Finding::fact(std::string_view name) const {
  for (const auto& [key, value] : facts)
    if (key == name) return value;
  return std::nullopt;
}

std::string_view code_name(Code code) { return entry(code).name; }
int status_of(Code code) { return entry(code).status; }
std::string_view title_of(Code code) { return entry(code).title; }
std::string sentence_of(const Finding& finding) { return filled(entry(finding.code).sentence, finding); }
std::string advice_of(const Finding& finding) { return filled(entry(finding.code).remedy, finding); }
std::string command_of(const Finding& finding) { return filled(entry(finding.code).command, finding); }
std::string remedy_of(const Finding& finding) {
  const std::string command = command_of(finding);
  if (command.empty()) return advice_of(finding);
  return advice_of(finding) + (command.find('\n') == command.npos ? " " : "\n") + command;
}
std::span<const Code> all_codes() { return kCodes; }

}  // namespace porter
