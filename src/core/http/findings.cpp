// From errors of the grammar to findings. See findings.hpp.
#include "core/http/findings.hpp"

namespace porter::http {
namespace {

Finding malformed_head(std::string_view what, const std::string& detail) {
  Finding finding{Code::malformed_request, {{"problem", std::string(what)}}};
  if (!detail.empty()) finding.facts.emplace_back("detail", detail);
  return finding;
}

Finding malformed_body(std::string_view what) { return {Code::malformed_body, {{"problem", std::string(what)}}}; }

}  // namespace

Finding finding_of(const HeadProblem& problem, const HeadLimits& limits) {
  const auto malformed = [&](std::string_view what) { return malformed_head(what, problem.detail); };
  switch (problem.error) {
    case HeadError::tls_handshake:
      return {Code::tls_on_plain_port, {}};
    case HeadError::bad_request_line:
      return malformed("its first line is not METHOD TARGET HTTP/1.1");
    case HeadError::bad_method:
      return malformed("it does not begin with a method");
    case HeadError::bad_version:
      return malformed("its first line does not end in HTTP/1.1 or HTTP/1.0");
    case HeadError::other_version:
      return {Code::version_unknown, {{"version", problem.detail}}};
    case HeadError::line_too_long:
      return {Code::request_line_too_long, {{"limit", std::to_string(limits.request_line)}}};
    case HeadError::head_too_large:
      return {Code::head_too_large, {{"limit", std::to_string(limits.head)}}};
    case HeadError::too_many_fields:
      return {Code::too_many_fields, {{"limit", std::to_string(limits.fields)}}};
    case HeadError::no_colon:
      return malformed("a field line has no colon");
    case HeadError::bad_field_name:
      return malformed("a field's name is not a token, or a space stands before the colon");
    case HeadError::folded_line:
      return malformed("a field line begins with white space");
    case HeadError::bare_cr:
      return malformed("it holds a carriage return without a line feed");
    case HeadError::control_character:
      return malformed("a field's value holds a control character");
  }
  return {Code::malformed_request, {}};
}

Finding finding_of(FramingError error, const RequestHead& head) {
  switch (error) {
    case FramingError::both:
      return malformed_body("it has both a Content-Length and a Transfer-Encoding");
    case FramingError::bad_length:
      return malformed_body("its Content-Length is not one plain number");
    case FramingError::coding_in_1_0:
      return malformed_body("HTTP/1.0 knows no Transfer-Encoding");
    case FramingError::body_with_bare_lines:
      return malformed_body(
          "its header ends lines with bare line feeds, and such a header is not allowed to announce a body");
    case FramingError::unknown_coding:
      break;
  }
  return {Code::coding_unknown, {{"coding", head.joined("Transfer-Encoding")}}};
}

Finding finding_of(TargetError error) { return {Code::malformed_target, {{"problem", std::string(describe(error))}}}; }

Finding bad_chunks() { return malformed_body("its chunked coding is broken"); }

Finding wrong_host_count(std::size_t count) { return {Code::host_missing, {{"count", std::to_string(count)}}}; }

Finding bad_host(std::string_view host, std::uint16_t port) {
  return {Code::host_malformed, {{"host", std::string(host)}, {"port", std::to_string(port)}}};
}

}  // namespace porter::http
