// What the floors for persistent interpreters have in common: a request, and the processes that it is sent to.
#pragma once

#include <fcntl.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include <cstdio>
#include <cstdlib>
#include <string>
#include <string_view>

extern char** environ;

inline void append_record(std::string& out, int type, std::string_view content) {
  do {
    const std::string_view piece = content.substr(0, 32768);
    content.remove_prefix(piece.size());
    const char header[8] = {1,
                            static_cast<char>(type),
                            0,
                            1,
                            static_cast<char>(piece.size() >> 8),
                            static_cast<char>(piece.size() & 0xff),
                            0,
                            0};
    out.append(header, sizeof header);
    out += piece;
  } while (!content.empty());
}

inline void append_length(std::string& out, std::size_t length) {
  if (length < 128) {
    out += static_cast<char>(length);
  } else {
    for (const int shift : {24, 16, 8, 0})
      out += static_cast<char>(((length >> shift) & 0xff) | (shift == 24 ? 0x80 : 0));
  }
}

/// A request for `script`, of which the environment is told, with a body of so many bytes.
inline std::string request_for(const std::string& script, std::size_t body) {
  std::string out;
  append_record(out, 1, std::string_view("\0\1\1\0\0\0\0\0", 8));
  std::string pairs;
  const auto add = [&pairs](std::string_view name, std::string_view value) {
    append_length(pairs, name.size());
    append_length(pairs, value.size());
    pairs += name;
    pairs += value;
  };
  for (char** variable = environ; *variable != nullptr; ++variable) {
    const std::string_view all = *variable;
    const std::size_t equals = all.find('=');
    if (equals != all.npos) add(all.substr(0, equals), all.substr(equals + 1));
  }
  add("SCRIPT_FILENAME", script);
  add("REQUEST_METHOD", body > 0 ? "POST" : "GET");
  if (body > 0) add("CONTENT_LENGTH", std::to_string(body));
  if (body > 0) add("CONTENT_TYPE", "application/octet-stream");
  append_record(out, 4, pairs);
  append_record(out, 4, {});
  if (body > 0) append_record(out, 5, std::string(body, 'k'));
  append_record(out, 5, {});
  return out;
}

/// A process that speaks FastCGI, and the connection to it.
struct Peer {
  pid_t process = 0;
  int connection = -1;
};

inline Peer start(char** command) {
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  std::snprintf(address.sun_path, sizeof address.sun_path, "/tmp/fastcgi-loop-%d-%d", getpid(), std::rand());
  const int listener = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
  if (bind(listener, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0 || listen(listener, 1) != 0)
    std::exit(1);
  Peer peer;
  peer.process = fork();
  if (peer.process == 0) {
    dup2(listener, 0);
    const int null = open("/dev/null", O_WRONLY);
    dup2(null, 1);
    execv(command[0], command);
    _exit(127);
  }
  peer.connection = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
  if (connect(peer.connection, reinterpret_cast<sockaddr*>(&address), sizeof address) != 0) std::exit(1);
  unlink(address.sun_path);
  close(listener);
  return peer;
}
