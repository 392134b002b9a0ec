// What the tests share: a folder of their own, programs started for real, and a plain client that speaks bytes.
#pragma once

#include <sys/types.h>

#include <chrono>
#include <cstdint>
#include <map>
#include <string>
#include <string_view>
#include <vector>

namespace porter::test {

/// A folder that exists as long as the object.
class TempFolder {
 public:
  TempFolder();
  ~TempFolder();
  TempFolder(const TempFolder&) = delete;
  TempFolder& operator=(const TempFolder&) = delete;

  const std::string& path() const { return path_; }
  /// Writes a file below the folder, making the folders on its way. Returns its full path.
  std::string write(const std::string& name, std::string_view content, unsigned mode = 0644) const;

 private:
  std::string path_;
};

/// A program that was started, with its standard output (and error stream) in a pipe.
class Program {
 public:
  /// `environment` is added to the test's own ("NAME=value"; "NAME=" alone to empty it).
  explicit Program(const std::vector<std::string>& words, const std::vector<std::string>& environment = {});
  /// Ends it by SIGKILL if it still runs.
  ~Program();
  Program(const Program&) = delete;
  Program& operator=(const Program&) = delete;

  pid_t id() const { return id_; }
  void signal(int number) const;
  /// Reads output until it contains `text`, or ends, or `time` is over. Returns all output so far.
  std::string read_until(std::string_view text, std::chrono::seconds time = std::chrono::seconds(20));
  /// Waits for its end and returns its exit status, or minus the signal that ended it.
  int wait();
  /// All output up to the end.
  std::string output();
  /// The output that was read so far.
  const std::string& said() const { return text_; }

 private:
  pid_t id_ = -1;
  int pipe_ = -1;
  std::string text_;
};

/// How a program has ended, and all that it said.
struct Outcome {
  int status;  ///< As of Program::wait().
  std::string output;
};
/// Runs a program to its end.
Outcome outcome_of(const std::vector<std::string>& words, const std::vector<std::string>& environment = {});
inline bool has(const std::string& text, const std::string& part) { return text.find(part) != std::string::npos; }

/// The path of a program of the build under test, such as "uporterd".
std::string built(const std::string& name);

/// uporterd on a free port.
class Server {
 public:
  explicit Server(const std::string& folder, std::vector<std::string> options = {},
                  const std::vector<std::string>& environment = {});

  std::uint16_t port() const { return port_; }
  Program& program() { return program_; }
  const std::string& start_lines() const { return start_lines_; }
  /// Stops it and tells its exit status.
  int stop();

 private:
  Program program_;
  std::string start_lines_;
  std::uint16_t port_ = 0;
};

/// uporterd on settings of the test's own, with a home of its own; `settings` has "PORT" where the free port is to
/// stand.
class SettledServer {
 public:
  SettledServer(TempFolder& folder, const std::string& settings, std::vector<std::string> options = {},
                const std::vector<std::string>& more_environment = {});

  std::uint16_t port() const { return port_; }
  Program& program() { return program_; }
  int stop();
  static std::vector<std::string> environment(const TempFolder& folder);

 private:
  std::uint16_t port_;
  Program program_;
};

/// A port that nobody listens on at the moment.
std::uint16_t free_port();

struct Response {
  int status = 0;  ///< 0: no response came.
  std::string reason;
  std::string head;
  std::multimap<std::string, std::string> fields;  ///< Names in lower case.
  std::string body;                                ///< Without its transfer coding.
  bool whole = false;                              ///< The body came to its end.

  /// The value of the first field of that (lower-case) name; empty if there is none.
  std::string field(const std::string& name) const;
};

/// A connection to the server under test.
class Connection {
 public:
  /// `from` is the port of this end; 0: any.
  explicit Connection(std::uint16_t port, const char* address = "127.0.0.1", std::uint16_t from = 0);
  /// To a Unix socket.
  explicit Connection(const std::string& path);
  ~Connection();
  Connection(const Connection&) = delete;
  Connection& operator=(const Connection&) = delete;

  int socket() const { return socket_; }
  bool send(std::string_view bytes);
  /// Closes the sending side.
  void finish_sending();
  /// The next response; to a HEAD request it has no body.
  Response receive(bool to_head = false);
  /// Everything until the server closes, or until nothing comes for `time`.
  std::string receive_all(std::chrono::milliseconds time = std::chrono::seconds(10));
  /// Everything until `text` has come, the server closes, or `time` is over.
  std::string receive_until(std::string_view text, std::chrono::milliseconds time = std::chrono::seconds(60));
  /// True if the server closes the connection within `time`, sending nothing more.
  bool is_closed(std::chrono::milliseconds time = std::chrono::seconds(10));

 private:
  bool read_more(std::chrono::milliseconds time);

  int socket_ = -1;
  std::string received_;
};

/// One request on a connection of its own, with Host and "Connection: close". `more` are further head lines, each ended
/// by CRLF.
Response request(std::uint16_t port, const std::string& method, const std::string& target, const std::string& more = "",
                 const std::string& body = "");
inline Response get(std::uint16_t port, const std::string& target, const std::string& more = "") {
  return request(port, "GET", target, more);
}

/// One request to the site that answers to `host`.
Response ask_host(std::uint16_t port, const std::string& host, const std::string& target);

/// The control socket of a server with settings whose home is `folder`; empty: it has none yet.
std::string control_socket(const TempFolder& folder);
/// One call of the control interface at `socket`; one with a body is sent as JSON.
Response call(const std::string& socket, const std::string& method, const std::string& target,
              const std::string& body = "");

/// What the file at `path` holds; empty if it cannot be read.
std::string file_text(const std::string& path);

/// Text of `size` bytes, no two parts of which are alike.
std::string numbered(std::size_t size);

/// Tries `condition` until it holds or `time` is over; tells whether it held.
template <typename Condition>
bool eventually(Condition condition, std::chrono::milliseconds time = std::chrono::seconds(10));

std::size_t open_descriptors(pid_t process);
/// Processes whose command line holds `text`.
std::vector<pid_t> processes_with(const std::string& text);
/// The command line of `sleep SECONDS`, as processes_with() sees it: a bare number stands in other command lines too.
std::string sleeper(const std::string& seconds);
/// How long a test that looks for rare things may look: PORTER_LONG_TESTS in seconds, else `usual`.
std::chrono::seconds looking_time(std::chrono::seconds usual);
/// Process ids of the children of `process`, zombies included; its warden left out.
std::vector<pid_t> children_of(pid_t process);
/// Memory of the process, in KiB.
long resident_kib(pid_t process);
void pause_ms(int milliseconds);

template <typename Condition>
bool eventually(Condition condition, std::chrono::milliseconds time) {
  const auto end = std::chrono::steady_clock::now() + time;
  while (!condition()) {
    if (std::chrono::steady_clock::now() > end) return false;
    pause_ms(10);
  }
  return true;
}

}  // namespace porter::test
