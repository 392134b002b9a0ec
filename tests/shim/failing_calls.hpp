// What a test and the failing_calls shim share: which system call of the server is to fail next, and how.
#pragma once

#include <atomic>

namespace porter::test {

enum class FailingCall { none, accept, receive, send, send_file, read, write, open, stat, pipe, watch, wait };

/// In a file that both have mapped.
struct FailingPlan {
  std::atomic<FailingCall> call;
  std::atomic<int> error;       ///< errno; 0: the call does less than was asked for.
  std::atomic<long> countdown;  ///< The call that it counts down to from 1 fails. 0: it has, or none is to.
};

}  // namespace porter::test
