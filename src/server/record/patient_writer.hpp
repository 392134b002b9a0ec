// Writing to what may not take it: a terminal that is paused, a pipe that nobody reads.
//
// Waiting for such a reader must never keep the server from ending, so nothing here blocks for longer than the caller
// allows, whatever flags the descriptor has.
#pragma once

#include <chrono>
#include <cstddef>
#include <string_view>

#include "core/files/descriptor.hpp"

namespace porter::server {

class PatientWriter {
 public:
  /// Writes to `out`, which stays the caller's and must stay open.
  explicit PatientWriter(int out);

  struct Written {
    std::size_t bytes = 0;  ///< How many of them went out; fewer than all when the time was over, or on an error.
    int error = 0;          ///< errno of what went wrong; 0: nothing did.
  };
  /// Writes `text`, waiting for at most `patience` until something is taken.
  Written write(std::string_view text, std::chrono::milliseconds patience);

 private:
  int out_;
  files::Descriptor own_;  ///< The same pipe or terminal, opened once more so that only here it does not block.
  enum class Kind { never_blocks, own_flags, socket, others_flags } kind_ = Kind::never_blocks;
};

}  // namespace porter::server
