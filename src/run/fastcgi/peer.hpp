// What answers a request over FastCGI: a connection, and what stands behind it.
#pragma once

#include <boost/asio/posix/stream_descriptor.hpp>
#include <chrono>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <string>

#include "core/fastcgi/records.hpp"
#include "run/event.hpp"
#include "run/process.hpp"

namespace porter::run {

/// It is lent to one run at a time, and all its functions are called on the thread of that.
class FastCgiPeer {
 public:
  virtual ~FastCgiPeer() = default;

  /// Non-blocking, and open while a run has it.
  virtual asio::posix::stream_descriptor& connection() = 0;
  /// The number of the request on its connection, from 1 on.
  virtual std::uint16_t next_request() = 0;
  /// Where what comes over the connection is read to, of read_memory(); null: whoever reads sees to it.
  virtual std::shared_ptr<char[]>& read_ahead() = 0;
  virtual fastcgi::Connection then() const = 0;
  /// Who answers, for a person: the program, or the address of one that others have started.
  virtual std::string name() const = 0;

  /// Nobody wants what comes over its connection: has another one, on which something comes once its program takes
  /// requests again. False: there is none.
  virtual bool knock() { return false; }
  /// The run is over: what its script has left running, for people. To be asked once.
  virtual std::vector<std::string> what_it_left() { return {}; }
  /// The line of the settings that has it start for each request; empty: there is none.
  virtual std::string fresh_setting() const { return {}; }
  /// True if nothing was answered by it before.
  virtual bool is_first_run() const { return false; }
  /// Which run of the process this is, from 1 on; 0: nobody counts them.
  virtual std::uint64_t number_of_run() const { return 0; }
  /// True if it reads what its script has left of the input itself, so that its connection can be used again.
  virtual bool reads_all_input() const { return false; }
  /// True if it ends by itself only when it has no request, so that one that has come meanwhile was not read.
  virtual bool ends_between_runs() const { return false; }
  /// The first word of its response has come.
  virtual void note_first_word() {}
  /// True if it had read all of a request before it said the first word, as far as is known: so one of which something
  /// was left unread was not read at all.
  virtual bool reads_before_it_answers() const { return false; }
  /// What it has printed to nobody in particular since this was asked last, which belongs to the page where the run
  /// would have its standard output there if it were a process of its own.
  virtual std::string take_output_text() { return {}; }
  /// The process that answers; null: it is another's. It may have ended.
  virtual Process* process() { return nullptr; }
  /// Whether what the process `sender` (0: unknown) has sent is the word of what answers, and not that of a copy which
  /// a run begun `age` ago has made of it.
  virtual bool is_own_word(pid_t /*sender*/, Clock::duration /*age*/) { return true; }
  /// Ends what answers, which has no other way to end a request.
  virtual void terminate() = 0;
  /// Does what is due at `now`; when to look again.
  virtual Clock::time_point look(Clock::time_point now) = 0;
  /// The processor time that it has used since this was asked last.
  virtual std::chrono::nanoseconds processor_time() { return {}; }
  /// Nobody asks what this run has used.
  virtual void skip_processor_time() {}
  /// What it has written aside from its answers since this was asked last.
  virtual std::string take_error_text() { return {}; }
  /// Calls `then` once the process has ended and been reaped.
  virtual void when_ended(std::function<void()> then) = 0;

  /// The run only streams: another may take the peer's place among those that work.
  virtual void only_streams() {}
  /// The run is over, and its connection can take another one, or cannot, or is shared by copies of the process.
  /// Called once; the run lets go of the peer.
  enum class Reusable { yes, on_new_connection, no };
  virtual void give_back(Reusable reusable) = 0;
};

/// Those who may answer a request.
class FastCgiPeers {
 public:
  virtual ~FastCgiPeers() = default;
  /// Gives `then` one that is free, or the next that is, at once or later; null: there is none, and will be none.
  virtual void ask(std::function<void(std::shared_ptr<FastCgiPeer>)> then) = 0;
};

}  // namespace porter::run
