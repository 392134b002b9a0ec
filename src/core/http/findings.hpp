// What is wrong with a request as it came over the wire, as findings: the one place where the grammar's errors become
// sentences for people.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "core/findings/finding.hpp"
#include "core/http/body.hpp"
#include "core/http/head.hpp"
#include "core/http/target.hpp"

namespace porter::http {

/// For a head that cannot be read; `limits` are those that it was read under.
Finding finding_of(const HeadProblem& problem, const HeadLimits& limits);
/// For a body whose end cannot be known, announced by `head`.
Finding finding_of(FramingError error, const RequestHead& head);
/// For a target that cannot be looked up.
Finding finding_of(TargetError error);
/// For a body whose chunked coding is broken.
Finding bad_chunks();
/// For a request with `count` Host fields where one is due (RFC 9112, section 3.2).
Finding wrong_host_count(std::size_t count);
/// For a Host field, or an authority in its place, that is no host; `port` is the one that the request came to.
Finding bad_host(std::string_view host, std::uint16_t port);

}  // namespace porter::http
