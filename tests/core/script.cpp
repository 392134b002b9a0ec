#include <algorithm>
#include <catch2/catch.hpp>
#include <cerrno>
#include <functional>

#include "core/script/error_place.hpp"
#include "core/script/interpreters.hpp"
#include "core/script/judge.hpp"
#include "core/script/meta_variables.hpp"
#include "core/script/script_head.hpp"
#include "support/support.hpp"

using namespace porter;
using namespace porter::script;

namespace {
std::string read_head(std::string_view text) {
  const auto length = script_head_length(text);
  if (!length) return "incomplete";
  const auto parsed = parse_script_head(text.substr(0, *length));
  if (const auto* const problem = std::get_if<ScriptHeadProblem>(&parsed))
    return (problem->kind == ScriptHeadProblem::Kind::no_head ? "no head " : "line ") + std::to_string(problem->line);
  const auto& head = std::get<ScriptHead>(parsed);
  std::string out = std::to_string(head.status) + (head.reason.empty() ? "" : " " + head.reason);
  for (const auto& [name, value] : head.fields) out += "|" + name + "=" + value;
  if (head.content_length) out += "|length " + std::to_string(*head.content_length);
  if (head.is_local_redirect()) out += "|local";
  return out;
}
}  // namespace

TEST_CASE("a script's response head is read as RFC 3875 section 6 has it") {
  struct Row {
    std::string_view text;
    std::string read;
  };
  const auto row = GENERATE(values<Row>({
      {"Content-Type: text/html\n\n<p>", "200|Content-Type=text/html"},
      {"Content-Type: text/html\r\n\r\n", "200|Content-Type=text/html"},
      {"Status: 404 Not Here\nContent-Type: a/b\n\n", "404 Not Here|Content-Type=a/b"},
      {"Status: 404\n\n", "404"},
      {"Status: 4o4\n\n", "no head 1"},
      {"Status: 99\n\n", "no head 1"},
      {"HTTP/1.1 201 Made\nA: b\n\n", "201 Made|A=b"},
      {"Location: /tides\n\n", "302|Location=/tides|local"},
      {"Status: 303\nLocation: /tides\n\n", "303|Location=/tides"},
      {"Location: /tides\nSet-Cookie: a=b\n\n", "302|Location=/tides|Set-Cookie=a=b"},
      {"Location: //harbour.localhost/tides\n\n", "302|Location=//harbour.localhost/tides"},
      {"Location: http://localhost/x\n\n", "302|Location=http://localhost/x"},
      {"Status: 303\nLocation: http://localhost/x\n\n", "303|Location=http://localhost/x"},
      {"Set-Cookie: a=1\nSet-Cookie: b=2\n\n", "200|Set-Cookie=a=1|Set-Cookie=b=2"},
      {"Content-Type: a/b\nContent-Length: 5\n\nhello", "200|Content-Type=a/b|length 5"},
      {"Content-Type: a/b\nConnection: close\nTransfer-Encoding: chunked\n\n", "200|Content-Type=a/b"},
      {"Content-Type: a/b\nnonsense\n\n", "line 2"},
      {"Content-Type: a/b\nA : b\n\n", "line 2"},
      {"Content-Type: a/b\nX: \x01\n\n", "line 2"},
      {"<html>\n\n", "no head 1"},
      {"\nhello", "no head 1"},
      {"Content-Type: text/html\n", "incomplete"},
      {"", "incomplete"},
  }));
  CAPTURE(row.text);
  CHECK(read_head(row.text) == row.read);
}

TEST_CASE("output that can be no head is known early") {
  CHECK(is_surely_no_head("<!doctype html>"));
  CHECK(is_surely_no_head("Timetable of today\n"));
  CHECK(is_surely_no_head("Good day: to you, sir"));
  CHECK_FALSE(is_surely_no_head("Content-Ty"));
  CHECK_FALSE(is_surely_no_head("Content-Type: text/html\n"));
  CHECK_FALSE(is_surely_no_head("HTTP/1.1 200 OK\n"));
}

TEST_CASE("first lines are taken apart") {
  struct Row {
    std::string_view start;
    std::string program, argument, meant;
  };
  const auto row = GENERATE(values<Row>({
      {"#!/usr/bin/perl -w\nuse", "/usr/bin/perl", "-w", "perl"},
      {"#! /usr/bin/env python3\n", "/usr/bin/env", "python3", "python3"},
      {"#!/usr/bin/env -S LANG=C ruby -w\n", "/usr/bin/env", "-S LANG=C ruby -w", "ruby"},
      {"#!/bin/sh", "/bin/sh", "", "sh"},
      {"\x7f"
       "ELF",
       "", "", ""},
      {"", "", "", ""},
  }));
  CAPTURE(row.start);
  const FirstLine line = read_first_line(row.start);
  CHECK(line.program == row.program);
  CHECK(line.argument == row.argument);
  CHECK(line.meant() == row.meant);
}

TEST_CASE("versions are found in what programs print") {
  CHECK(version_in("PHP 8.2.36 (cgi-fcgi) (built: Jan  1 2026)") == "8.2.36");
  CHECK(version_in("\nThis is perl 5, version 36, subversion 0 (v5.36.0) built for x86_64") == "5.36.0");
  CHECK(version_in("Python 3.11.2") == "3.11.2");
  CHECK(version_in("no number").empty());
}

TEST_CASE("an environment keeps the last variable of each name, in its place") {
  struct Row {
    std::vector<std::string> given;
    std::vector<std::string> kept;
  };
  const auto row = GENERATE(values<Row>({
      {{}, {}},
      {{"PORT=MOR", "DAY=3"}, {"PORT=MOR", "DAY=3"}},
      {{"PORT=MOR", "DAY=3", "PORT=TAN"}, {"DAY=3", "PORT=TAN"}},
      {{"PORT=", "PORT=", "PORT=LIN"}, {"PORT=LIN"}},
      {{"PORT=a=b", "PORT_NAME=Linnet Isle"}, {"PORT=a=b", "PORT_NAME=Linnet Isle"}},
  }));
  Environment environment(row.given);
  environment.keep_last_of_each_name();
  CHECK(environment.list() == row.kept);
  std::vector<std::string> pointed_at;
  const auto pointers = environment.pointers();
  for (const char* const variable : pointers)
    if (variable != nullptr) pointed_at.emplace_back(variable);
  CHECK(pointed_at == row.kept);
  CHECK(pointers.back() == nullptr);
}

TEST_CASE("a script's environment holds the meta-variables with their exact values") {
  const std::string bytes =
      "POST /cgi-bin/fares/a%20b?x=1&y HTTP/1.1\r\nHost: gulls.localhost:8080\r\nContent-Type: text/plain\r\n"
      "Accept: a\r\nX-Two: 1\r\nX-Two: 2\r\nCookie: a=1\r\nCookie: b=2\r\nProxy: evil\r\nX_Under: u\r\n"
      "Authorization: Basic abc\r\nConnection: close\r\nContent-Length: 3\r\n\r\n";
  const auto head = std::get<http::RequestHead>(http::parse_head(bytes, {}));
  const auto target = std::get<http::Target>(http::parse_target(head.target, head.method));
  Site site;
  site.document_root = "/w/pages";
  sites::ScriptFound script;
  script.path = "/w/pages/cgi-bin/fares";
  script.name = "/cgi-bin/fares";
  script.path_info = "/a b";
  const auto variables =
      meta_variables(script, site, head, target, {"127.0.0.1", 5000, 8080, "gulls.localhost"}, 3, {"PATH=/usr/bin"});
  const std::vector<std::string> expected = {"PATH=/usr/bin",
                                             "GATEWAY_INTERFACE=CGI/1.1",
                                             "SERVER_SOFTWARE=UprightPorter/" PORTER_VERSION,
                                             "SERVER_PROTOCOL=HTTP/1.1",
                                             "SERVER_NAME=gulls.localhost",
                                             "SERVER_PORT=8080",
                                             "REQUEST_METHOD=POST",
                                             "SCRIPT_NAME=/cgi-bin/fares",
                                             "PATH_INFO=/a b",
                                             "PATH_TRANSLATED=/w/pages/a b",
                                             "QUERY_STRING=x=1&y",
                                             "REMOTE_ADDR=127.0.0.1",
                                             "CONTENT_LENGTH=3",
                                             "CONTENT_TYPE=text/plain",
                                             "SCRIPT_FILENAME=/w/pages/cgi-bin/fares",
                                             "DOCUMENT_ROOT=/w/pages",
                                             "REQUEST_SCHEME=http",
                                             "REQUEST_URI=/cgi-bin/fares/a%20b?x=1&y",
                                             "REDIRECT_STATUS=200",
                                             "HTTP_HOST=gulls.localhost:8080",
                                             "HTTP_ACCEPT=a",
                                             "HTTP_X_TWO=1, 2",
                                             "HTTP_COOKIE=a=1; b=2",
                                             "HTTP_AUTHORIZATION=Basic abc"};
  CHECK(variables.list() == expected);
}

TEST_CASE("the port comes last, and settings do not name another") {
  const std::string bytes = "GET /a HTTP/1.1\r\n\r\n";
  const auto head = std::get<http::RequestHead>(http::parse_head(bytes, {}));
  const auto target = std::get<http::Target>(http::parse_target(head.target, head.method));
  Site site;
  site.environment = {"REMOTE_PORT=1", "REMOTE_PORTS=2"};
  auto variables = meta_variables({}, site, head, target, {}, std::nullopt, {});
  add_remote_port(variables, 5000);
  const auto all = variables.list();
  CHECK(all.front() == "REMOTE_PORTS=2");
  CHECK(all.back() == "REMOTE_PORT=5000");
  CHECK(std::find(all.begin(), all.end(), "REMOTE_PORT=1") == all.end());
}

TEST_CASE("an indexed query becomes arguments, any other does not") {
  CHECK(query_arguments("skerry+head%20quay") == std::vector<std::string>{"skerry", "head quay"});
  CHECK(query_arguments("a=b").empty());
  CHECK(query_arguments("").empty());
  CHECK(query_arguments("a+%zz").empty());
  CHECK(query_arguments("a%00").empty());
}

namespace {
ScriptHead good_head(std::optional<std::uint64_t> length = {}, int status = 200) {
  ScriptHead head;
  head.status = status;
  head.fields = {{"Content-Type", "text/html"}};
  head.content_length = length;
  return head;
}
}  // namespace

TEST_CASE("a run is judged by what explains it best") {
  struct Row {
    std::function<void(RunReport&)> change;
    std::string code;
  };
  const std::vector<Row> rows = {
      {[](RunReport& r) { r.head = good_head(); }, "none"},
      {[](RunReport&) {}, "wrote-nothing"},
      {[](RunReport& r) { r.error_text = "hello\n"; }, "only-error-stream"},
      {[](RunReport& r) { r.output_start = "<p>"; }, "no-response-head"},
      {[](RunReport& r) {
         r.exit_status = 2;
         r.output_start = "<p>";
       },
       "script-failed"},
      {[](RunReport& r) {
         r.exit_status = 2;
         r.head = good_head();
       },
       "script-failed"},
      {[](RunReport& r) { r.signal = 11; }, "script-killed"},
      {[](RunReport& r) {
         r.signal = 24;
         r.processor_time = 5;
       },
       "out-of-processor-time"},
      {[](RunReport& r) {
         r.signal = 15;
         r.was_too_slow = true;
       },
       "script-too-slow"},
      {[](RunReport& r) {
         r.signal = 15;
         r.was_stopped = true;
       },
       "none"},
      {[](RunReport& r) {
         r.head_limit = 10;
         r.signal = 15;
       },
       "response-head-too-large"},
      {[](RunReport& r) {
         r.output_start = "A: b\nc\n\n";
         r.head_problem = {ScriptHeadProblem::Kind::malformed_line, 2, "c"};
       },
       "response-head-malformed"},
      {[](RunReport& r) {
         r.head = good_head(5);
         r.body_written = 3;
       },
       "body-shorter-than-announced"},
      {[](RunReport& r) {
         r.head = good_head(5);
         r.body_written = 9;
       },
       "body-longer-than-announced"},
      {[](RunReport& r) {
         r.head = good_head(5);
         r.body_was_expected = false;
       },
       "none"},
      {[](RunReport& r) {
         r.head = good_head();
         r.head->fields.clear();
         r.body_written = 3;
       },
       "no-content-type"},
      {[](RunReport& r) {
         r.head = good_head({}, 500);
         r.error_text = "PHP Parse error:  bad in /w/x.php on line 3";
       },
       "script-error"},
      {[](RunReport& r) {
         r.exit_status = 1;
         r.error_text = "MemoryError\n";
       },
       "out-of-memory"},
      {[](RunReport& r) {
         r.exit_status = 1;
         r.error_text = "EOFError: EOF when reading a line\n";
       },
       "read-past-input"},
      {[](RunReport& r) {
         r.exit_status = 127;
         r.error_text = "/w/x: error while loading shared libraries: libtide.so.1: cannot open shared object file";
       },
       "library-missing"},
      {[](RunReport& r) {
         r.exit_status = 1;
         r.error_text = "PermissionError: [Errno 13] Permission denied: '/w/log'";
       },
       "write-not-permitted"},
  };
  for (const Row& row : rows) {
    RunReport report;
    report.path = "/w/x";
    report.document_root = "/w";
    row.change(report);
    CAPTURE(report.error_text, row.code);
    const auto finding = judge_run(report);
    CHECK((finding ? std::string(code_name(finding->code)) : "none") == row.code);
  }
}

TEST_CASE("the place of an error is found in the words of each language") {
  struct Row {
    std::string text;
    std::string file;
    std::size_t line;
    std::string message;
  };
  const auto row = GENERATE(values<Row>({
      {"PHP Parse error:  syntax error, unexpected token \"}\" in /w/cgi-bin/x on line 7", "/w/cgi-bin/x", 7,
       "PHP Parse error:  syntax error, unexpected token \"}\""},
      {"PHP Fatal error:  Uncaught Exception: no boat in /w/boats.php:3\nStack trace:\n#0 {main}\n  thrown in "
       "/w/boats.php on line 3",
       "/w/boats.php", 3, "PHP Fatal error:  Uncaught Exception: no boat"},
      {"Traceback (most recent call last):\n  File \"/w/cgi-bin/x\", line 4, in <module>\n    main()\n  File "
       "\"/usr/lib/python3.11/csv.py\", line 99, in read\nValueError: no tide\n",
       "/w/cgi-bin/x", 4, "ValueError: no tide"},
      {"  File \"x\", line 2\n    if\n      ^\nSyntaxError: invalid syntax\n", "/w/cgi-bin/x", 2,
       "SyntaxError: invalid syntax"},
      {"syntax error at /w/cgi-bin/x line 5, near \"foo bar\"\nExecution of /w/cgi-bin/x aborted.\n", "/w/cgi-bin/x", 5,
       "syntax error"},
      {"No harbour at ./x line 9.\n", "/w/cgi-bin/x", 9, "No harbour"},
      {"/w/cgi-bin/x:3:in `<main>': undefined local variable `tide' (NameError)\n", "/w/cgi-bin/x", 3,
       "in `<main>': undefined local variable `tide' (NameError)"},
      {"/w/cgi-bin/x: 4: ferry: not found\n", "/w/cgi-bin/x", 4, "ferry: not found"},
      {"/w/cgi-bin/x: line 4: ferry: command not found\n", "/w/cgi-bin/x", 4, "ferry: command not found"},
      {"lua: x:2: attempt to index a nil value (global 'tide')\n", "/w/cgi-bin/x", 2,
       "attempt to index a nil value (global 'tide')"},
      {"/w/cgi-bin/x:6\n  tide.high();\n       ^\n\nTypeError: tide is undefined\n    at Object.<anonymous>",
       "/w/cgi-bin/x", 6, "TypeError: tide is undefined"},
      {"invalid command name \"ferry\"\n    while executing\n\"ferry\"\n    (file \"/w/cgi-bin/x\" line 3)\n",
       "/w/cgi-bin/x", 3, "invalid command name \"ferry\""},
      {"it is 12:30 on line 4\n", "", 0, ""},
  }));
  CAPTURE(row.text);
  const auto place = find_error_place(row.text, "/w/cgi-bin/x");
  CHECK(place.value_or(ErrorPlace{}).file == row.file);
  CHECK(place.value_or(ErrorPlace{}).line == row.line);
  CHECK(place.value_or(ErrorPlace{}).message == row.message);
}

TEST_CASE("of an error stream the line is told that says what went wrong") {
  struct Row {
    std::string text;
    std::string told;
  };
  const auto row = GENERATE(values<Row>({
      {"Exception in thread \"main\" java.lang.IllegalStateException: no tide\n\tat Tides.main(Tides.java:4)\n",
       "Exception in thread \"main\" java.lang.IllegalStateException: no tide"},
      {"Error in high_water(x) : \n  object 'x' not found\nCalls: print -> high_water\nExecution halted\n",
       "Error in high_water(x) :  object 'x' not found"},
      {"ferry\n\nBoatError: no boat\n    at run (node:internal)\n\nNode.js v20.11.0\n", "BoatError: no boat"},
      {"first\nlast\n", "last"},
  }));
  RunReport report;
  report.path = "/w/x";
  report.exit_status = 1;
  report.error_text = row.text;
  CAPTURE(row.text);
  const auto finding = judge_run(report);
  REQUIRE(finding);
  CHECK(finding->fact("last") == row.told);
}

TEST_CASE("what a page did that worked is remarked on where nothing of it came through") {
  struct Row {
    std::string text;
    std::string code;
  };
  const auto row = GENERATE(values<Row>({
      {"sh: 1: /usr/sbin/sendmail: not found\n", "mail-program-missing"},
      {"PHP Warning:  Unknown: POST Content-Length of 9000000 bytes exceeds the limit of 8388608 bytes in Unknown on "
       "line 0\n",
       "php-post-too-large"},
      {"curl: (6) Could not resolve host: fares.localhost\n", "localhost-unknown"},
      {"PHP Warning:  Undefined variable $tide in /w/x on line 1\n", ""},
  }));
  CAPTURE(row.text);
  const auto finding = remark_on("/w/x", row.text);
  CHECK((finding ? std::string(code_name(finding->code)) : "") == row.code);
}

TEST_CASE("an error at the beginning of a line may be made at the end of the line before") {
  porter::test::TempFolder folder;
  struct Row {
    std::string source;
    std::size_t line;
    std::string token;
    std::optional<std::size_t> open;
  };
  for (const Row& row : std::vector<Row>{{"<?php\n$a = 1\necho $a;\n", 3, "echo", 2},
                                         {"<?php\n$a = 1\n\n// high\n$b = 2;\n", 5, "$b", 2},
                                         {"<?php\n$a = 1;\necho $a;\n", 3, "echo", std::nullopt},
                                         {"<?php\n$a = 1 echo 2;\n", 2, "echo", std::nullopt}}) {
    CAPTURE(row.source);
    const std::string file = folder.write("page.php", row.source);
    const std::string folders[] = {folder.path()};
    CHECK(line_left_open({file, row.line, "PHP Parse error:  syntax error, unexpected token \"" + row.token + "\""},
                         folders) == row.open);
  }
}

TEST_CASE("a start that failed is explained by the file's first line") {
  CHECK(code_name(judge_start("/w/x", "x", ENOENT, "#!/no/such/perl\n").code) == "interpreter-not-found");
  CHECK(code_name(judge_start("/w/x", "x", ENOEXEC, "hello").code) == "not-a-program");
  CHECK(code_name(judge_start("/w/x", "x", ENOENT, "#!/bin/sh\r\n").code) == "first-line-carriage-return");
  CHECK(code_name(judge_start("/w/x", "x", ENOEXEC, "\xef\xbb\xbf#!/bin/sh\n").code) == "byte-order-mark");
  CHECK(code_name(judge_start("/w/x", "x", ENOEXEC,
                              "\x7f"
                              "ELF")
                      .code) == "wrong-architecture");
  CHECK(code_name(judge_start("/w/x", "x", EACCES, "hello").code) == "script-start-failed");
  CHECK(signal_name(11) == "SIGSEGV");
}
