// A request's body that is kept in a file without a name until it is whole: a script is told its length before it
// starts (RFC 3875, section 4.1.2).
#pragma once

#include <boost/asio/awaitable.hpp>
#include <cstdint>

#include "core/files/descriptor.hpp"
#include "core/findings/finding.hpp"
#include "run/helpers.hpp"
#include "server/connection/body_reader.hpp"

namespace porter::server {

/// A body of unknown length, read to its end.
struct Spooled {
  BodyRead result = BodyRead::end;
  files::Descriptor file;
  std::uint64_t length = 0;
  int error = 0;  ///< errno, where the body could not be kept.
};

/// A disk may be slow, and this thread serves others: `helpers` write to it, in large pieces.
asio::awaitable<Spooled> spool_body(BodyReader& body, run::Helpers& helpers);

/// What there is to be told of a body that could not be kept, for `error`, an errno.
Finding spool_finding(int error);

}  // namespace porter::server
