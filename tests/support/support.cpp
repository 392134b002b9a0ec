#include "support/support.hpp"

#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <poll.h>
#include <spawn.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <sstream>
#include <stdexcept>
#include <thread>
#include <utility>

namespace porter::test {
namespace fs = std::filesystem;

TempFolder::TempFolder() {
  std::string pattern = (fs::temp_directory_path() / "porter-test-XXXXXX").string();
  if (::mkdtemp(pattern.data()) == nullptr) throw std::runtime_error("no temporary folder");
  path_ = fs::canonical(pattern).string();
  fs::permissions(path_, fs::perms(0755));
}

TempFolder::~TempFolder() {
  std::error_code ignored;
  fs::remove_all(path_, ignored);
}

std::string TempFolder::write(const std::string& name, std::string_view content, unsigned mode) const {
  const fs::path file = fs::path(path_) / name;
  fs::create_directories(file.parent_path());
  std::ofstream(file, std::ios::binary) << content;
  ::chmod(file.c_str(), mode);
  return file.string();
}

Program::Program(const std::vector<std::string>& words, const std::vector<std::string>& environment) {
  std::array<int, 2> ends{};
  if (::pipe2(ends.data(), O_CLOEXEC) != 0) throw std::runtime_error("no pipe");
  std::vector<char*> arguments;
  for (const std::string& word : words) arguments.push_back(const_cast<char*>(word.c_str()));
  arguments.push_back(nullptr);
  std::vector<char*> variables;
  for (const std::string& one : environment) variables.push_back(const_cast<char*>(one.c_str()));
  for (char** own = environ; *own != nullptr; ++own) {
    const std::string_view name = std::string_view(*own).substr(0, std::strcspn(*own, "=") + 1);
    bool replaced = false;
    for (const std::string& one : environment) replaced = replaced || one.starts_with(name);
    if (!replaced) variables.push_back(*own);
  }
  variables.push_back(nullptr);
  posix_spawn_file_actions_t actions;
  ::posix_spawn_file_actions_init(&actions);
  ::posix_spawn_file_actions_addopen(&actions, 0, "/dev/null", O_RDONLY, 0);
  ::posix_spawn_file_actions_adddup2(&actions, ends[1], 1);
  ::posix_spawn_file_actions_adddup2(&actions, ends[1], 2);
  const int error = ::posix_spawnp(&id_, words.front().c_str(), &actions, nullptr, arguments.data(), variables.data());
  ::posix_spawn_file_actions_destroy(&actions);
  ::close(ends[1]);
  pipe_ = ends[0];
  if (error != 0) throw std::runtime_error("cannot start " + words.front());
}

Program::~Program() {
  if (id_ > 0) {
    ::kill(id_, SIGKILL);
    wait();
  }
  ::close(pipe_);
}

void Program::signal(int number) const { ::kill(id_, number); }

std::string Program::read_until(std::string_view text, std::chrono::seconds time) {
  const auto end = std::chrono::steady_clock::now() + time;
  while (text_.find(text) == std::string::npos) {
    const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(end - std::chrono::steady_clock::now());
    pollfd ready{pipe_, POLLIN, 0};
    if (left.count() <= 0 || ::poll(&ready, 1, static_cast<int>(left.count())) <= 0) break;
    std::array<char, 65536> buffer;
    const ssize_t got = ::read(pipe_, buffer.data(), buffer.size());
    if (got <= 0) break;
    text_.append(buffer.data(), static_cast<std::size_t>(got));
  }
  return text_;
}

std::string Program::output() { return read_until(std::string_view("\0never", 6), std::chrono::seconds(60)); }

int Program::wait() {
  // Its pipe is read meanwhile, so that it cannot wait for a reader.
  output();
  int status = 0;
  while (::waitpid(id_, &status, 0) < 0 && errno == EINTR) {
  }
  id_ = -1;
  return WIFSIGNALED(status) ? -WTERMSIG(status) : WEXITSTATUS(status);
}

Outcome outcome_of(const std::vector<std::string>& words, const std::vector<std::string>& environment) {
  Program program(words, environment);
  const std::string output = program.output();
  return {program.wait(), output};
}

std::string built(const std::string& name) { return std::string(PORTER_BUILT) + "/" + name; }

namespace {
std::vector<std::string> server_words(const std::string& folder, std::vector<std::string> options) {
  std::vector<std::string> words = {built("uporterd"), "--folder", folder, "--port", "0"};
  words.insert(words.end(), options.begin(), options.end());
  return words;
}
}  // namespace

Server::Server(const std::string& folder, std::vector<std::string> options, const std::vector<std::string>& environment)
    : program_(server_words(folder, std::move(options)), environment) {
  start_lines_ = program_.read_until("Ctrl+C\n\n");
  const std::string mark = "http://localhost:";
  const std::size_t at = start_lines_.find(mark);
  if (at == std::string::npos) throw std::runtime_error("the server did not start: " + start_lines_);
  port_ = static_cast<std::uint16_t>(std::atoi(start_lines_.c_str() + at + mark.size()));
}

std::vector<std::string> SettledServer::environment(const TempFolder& folder) {
  return {"HOME=" + folder.path(), "XDG_STATE_HOME=" + folder.path() + "/state", "XDG_RUNTIME_DIR=", "NOTIFY_SOCKET="};
}

namespace {
std::vector<std::string> settled_words(const TempFolder& folder, std::string settings, std::uint16_t port,
                                       const std::vector<std::string>& options) {
  for (std::size_t at = 0; (at = settings.find("PORT", at)) != std::string::npos;)
    settings.replace(at, 4, std::to_string(port));
  std::vector<std::string> words = {built("uporterd"), "--settings", folder.write("uporter.toml", settings)};
  words.insert(words.end(), options.begin(), options.end());
  return words;
}
}  // namespace

SettledServer::SettledServer(TempFolder& folder, const std::string& settings, std::vector<std::string> options,
                             const std::vector<std::string>& more_environment)
    : port_(free_port()), program_(settled_words(folder, settings, port_, options), [&] {
        std::vector<std::string> all = environment(folder);
        all.insert(all.end(), more_environment.begin(), more_environment.end());
        return all;
      }()) {
  const std::string said = program_.read_until("Ctrl+C\n\n");
  if (said.find("Ctrl+C") == std::string::npos) throw std::runtime_error("the server did not start: " + said);
}

namespace {
/// A test that expects 0 shows no more than the status: what the server said tells why it was another.
int stop_server(Program& program) {
  program.signal(SIGTERM);
  const int status = program.wait();
  if (status != 0) std::cerr << "the server ended with " << status << " and said:\n" << program.said() << "\n";
  return status;
}
}  // namespace

int SettledServer::stop() { return stop_server(program_); }

int Server::stop() { return stop_server(program_); }

std::string Response::field(const std::string& name) const {
  const auto found = fields.find(name);
  return found == fields.end() ? "" : found->second;
}

Connection::Connection(std::uint16_t port, const char* address, std::uint16_t from) {
  sockaddr_in6 v6{};
  sockaddr_in v4{};
  const bool is_v6 = std::strchr(address, ':') != nullptr;
  socket_ = ::socket(is_v6 ? AF_INET6 : AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  v4.sin_family = AF_INET;
  v4.sin_port = htons(port);
  ::inet_pton(AF_INET, address, &v4.sin_addr);
  v6.sin6_family = AF_INET6;
  v6.sin6_port = htons(port);
  ::inet_pton(AF_INET6, address, &v6.sin6_addr);
  if (from != 0) {
    sockaddr_in own{};
    own.sin_family = AF_INET;
    own.sin_port = htons(from);
    const int on = 1;
    ::setsockopt(socket_, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
    if (::bind(socket_, reinterpret_cast<sockaddr*>(&own), sizeof own) != 0) {
      ::close(socket_);
      throw std::runtime_error("the port is taken");
    }
  }
  const int result = is_v6 ? ::connect(socket_, reinterpret_cast<sockaddr*>(&v6), sizeof v6)
                           : ::connect(socket_, reinterpret_cast<sockaddr*>(&v4), sizeof v4);
  if (result != 0) throw std::runtime_error("cannot connect");
}

Connection::Connection(const std::string& path) : socket_(::socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0)) {
  sockaddr_un name{};
  name.sun_family = AF_UNIX;
  path.copy(name.sun_path, sizeof name.sun_path - 1);
  if (::connect(socket_, reinterpret_cast<sockaddr*>(&name), sizeof name) != 0)
    throw std::runtime_error("cannot connect");
}

Connection::~Connection() { ::close(socket_); }

bool Connection::send(std::string_view bytes) {
  while (!bytes.empty()) {
    const ssize_t sent = ::send(socket_, bytes.data(), bytes.size(), MSG_NOSIGNAL);
    if (sent <= 0) return false;
    bytes.remove_prefix(static_cast<std::size_t>(sent));
  }
  return true;
}

void Connection::finish_sending() { ::shutdown(socket_, SHUT_WR); }

bool Connection::read_more(std::chrono::milliseconds time) {
  pollfd ready{socket_, POLLIN, 0};
  if (::poll(&ready, 1, static_cast<int>(time.count())) <= 0) return false;
  std::array<char, 65536> buffer;
  const ssize_t got = ::recv(socket_, buffer.data(), buffer.size(), 0);
  if (got <= 0) return false;
  received_.append(buffer.data(), static_cast<std::size_t>(got));
  return true;
}

std::string Connection::receive_all(std::chrono::milliseconds time) {
  while (read_more(time)) {
  }
  return std::exchange(received_, {});
}

std::string Connection::receive_until(std::string_view text, std::chrono::milliseconds time) {
  const auto end = std::chrono::steady_clock::now() + time;
  while (received_.find(text) == std::string::npos) {
    const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(end - std::chrono::steady_clock::now());
    if (left.count() <= 0 || !read_more(left)) break;
  }
  return std::exchange(received_, {});
}

bool Connection::is_closed(std::chrono::milliseconds time) {
  if (!received_.empty()) return false;
  pollfd ready{socket_, POLLIN, 0};
  char byte = 0;
  return ::poll(&ready, 1, static_cast<int>(time.count())) == 1 && ::recv(socket_, &byte, 1, 0) <= 0;
}

Response Connection::receive(bool to_head) {
  constexpr std::chrono::seconds kPatience{40};
  Response response;
  std::size_t end = 0;
  while ((end = received_.find("\r\n\r\n")) == std::string::npos)
    if (!read_more(kPatience)) return response;
  response.head = received_.substr(0, end + 4);
  received_.erase(0, end + 4);
  std::istringstream lines(response.head);
  std::string version;
  lines >> version >> response.status;
  std::getline(lines >> std::ws, response.reason);
  if (!response.reason.empty()) response.reason.pop_back();
  for (std::string line; std::getline(lines, line) && line != "\r";) {
    const std::size_t colon = line.find(':');
    std::string name = line.substr(0, colon);
    for (char& c : name) c = static_cast<char>(std::tolower(c));
    response.fields.emplace(name, line.substr(colon + 2, line.size() - colon - 3));
  }
  if (response.status < 200) return receive(to_head);
  response.whole = true;
  if (to_head || response.status == 204 || response.status == 304) return response;
  if (response.field("transfer-encoding") == "chunked") {
    for (;;) {
      std::size_t line = 0;
      while ((line = received_.find("\r\n")) == std::string::npos)
        if (!read_more(kPatience)) return response.whole = false, response;
      const std::size_t size = std::stoul(received_.substr(0, line), nullptr, 16);
      while (received_.size() < line + 2 + size + 2)
        if (!read_more(kPatience)) return response.whole = false, response;
      response.body += received_.substr(line + 2, size);
      received_.erase(0, line + 2 + size + 2);
      if (size == 0) return response;
    }
  }
  const std::string length = response.field("content-length");
  if (length.empty()) {
    while (read_more(kPatience)) {
    }
    response.body = std::exchange(received_, {});
    return response;
  }
  const std::size_t size = std::stoul(length);
  while (received_.size() < size && read_more(kPatience)) {
  }
  response.whole = received_.size() >= size;
  response.body = received_.substr(0, size);
  received_.erase(0, response.body.size());
  return response;
}

Response ask_host(std::uint16_t port, const std::string& host, const std::string& target) {
  Connection connection(port);
  connection.send("GET " + target + " HTTP/1.1\r\nHost: " + host + "\r\n\r\n");
  return connection.receive();
}

std::string file_text(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  std::ostringstream text;
  text << file.rdbuf();
  return text.str();
}

std::string control_socket(const TempFolder& folder) {
  std::error_code error;
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder.path() + "/state", error))
    if (entry.is_socket()) return entry.path();
  return "";
}

Response call(const std::string& socket, const std::string& method, const std::string& target,
              const std::string& body) {
  Connection connection(socket);
  std::string head = method + " " + target + " HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n";
  if (!body.empty())
    head += "Content-Type: application/json\r\nContent-Length: " + std::to_string(body.size()) + "\r\n";
  connection.send(head + "\r\n" + body);
  return connection.receive();
}

Response request(std::uint16_t port, const std::string& method, const std::string& target, const std::string& more,
                 const std::string& body) {
  Connection connection(port);
  std::string head = method + " " + target + " HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n" + more;
  if (!body.empty()) head += "Content-Length: " + std::to_string(body.size()) + "\r\n";
  connection.send(head + "\r\n" + body);
  return connection.receive(method == "HEAD");
}

std::uint16_t free_port() {
  // Of those that the system gives to nobody by itself, some for each process: others run beside this one, whose
  // connections would take a port that is free at the moment.
  constexpr unsigned kFirst = 10'000;
  constexpr unsigned kOfEach = 20;
  constexpr unsigned kProcesses = 1'000;
  static unsigned count = 0;
  for (unsigned tries = 0; tries < kOfEach; ++tries) {
    const unsigned own = static_cast<unsigned>(::getpid()) % kProcesses;
    const auto port = static_cast<std::uint16_t>(kFirst + own * kOfEach + count++ % kOfEach);
    const int socket = ::socket(AF_INET6, SOCK_STREAM | SOCK_CLOEXEC, 0);
    const int both = 0;
    ::setsockopt(socket, IPPROTO_IPV6, IPV6_V6ONLY, &both, sizeof both);
    sockaddr_in6 any{};
    any.sin6_family = AF_INET6;
    any.sin6_port = htons(port);
    const int on = 1;
    ::setsockopt(socket, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
    const bool is_free = ::bind(socket, reinterpret_cast<const sockaddr*>(&any), sizeof any) == 0;
    ::close(socket);
    if (is_free) return port;
  }
  throw std::runtime_error("no port is free");
}

std::size_t open_descriptors(pid_t process) {
  const fs::directory_iterator all("/proc/" + std::to_string(process) + "/fd");
  return static_cast<std::size_t>(std::distance(fs::begin(all), fs::end(all)));
}

std::vector<pid_t> children_of(pid_t process) {
  std::vector<pid_t> out;
  std::error_code error;
  for (fs::directory_iterator entry("/proc", error), end; !error && entry != end; entry.increment(error)) {
    const std::string name = entry->path().filename().string();
    if (name.find_first_not_of("0123456789") != std::string::npos) continue;
    std::ifstream stat(entry->path() / "stat");
    std::string text;
    std::getline(stat, text);
    const std::size_t paren = text.rfind(')');
    if (paren == std::string::npos) continue;
    std::istringstream rest(text.substr(paren + 1));
    std::string state;
    pid_t parent = 0;
    rest >> state >> parent;
    if (parent == process && text.find("(porter-warden)") == std::string::npos)
      out.push_back(static_cast<pid_t>(std::stol(name)));
  }
  return out;
}

std::vector<pid_t> processes_with(const std::string& text) {
  std::vector<pid_t> out;
  std::error_code error;
  for (fs::directory_iterator entry("/proc", error), end; !error && entry != end; entry.increment(error)) {
    const std::string name = entry->path().filename().string();
    if (name.find_first_not_of("0123456789") != std::string::npos) continue;
    std::ifstream file(entry->path() / "cmdline");
    std::ostringstream line;
    line << file.rdbuf();
    if (line.str().find(text) != std::string::npos) out.push_back(static_cast<pid_t>(std::stol(name)));
  }
  return out;
}

std::string sleeper(const std::string& seconds) { return std::string("sleep") + '\0' + seconds + '\0'; }

std::chrono::seconds looking_time(std::chrono::seconds usual) {
  const char* const wanted = std::getenv("PORTER_LONG_TESTS");
  return wanted == nullptr ? usual : std::chrono::seconds(std::atoi(wanted));
}

long resident_kib(pid_t process) {
  std::ifstream file("/proc/" + std::to_string(process) + "/status");
  for (std::string line; std::getline(file, line);)
    if (line.starts_with("VmRSS:")) return std::atol(line.c_str() + 6);
  return 0;
}

std::string numbered(std::size_t size) {
  std::string out;
  out.reserve(size + 20);
  for (std::size_t i = 0; out.size() < size; ++i) out += std::to_string(i) + ' ';
  out.resize(size);
  return out;
}

void pause_ms(int milliseconds) { std::this_thread::sleep_for(std::chrono::milliseconds(milliseconds)); }

}  // namespace porter::test
