// A pooled process's socket, its streams and its end. See process.hpp.
#include "run/pool/process.hpp"

#include <fcntl.h>
#include <poll.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <cstring>
#include <ctime>
#include <iterator>
#include <utility>

#include "core/files/beneath.hpp"
#include "core/files/pipe.hpp"

namespace porter::run {
namespace {

/// Most of them end at once when they are asked to; PHP does as soon as it is between two requests.
constexpr std::chrono::milliseconds kGraceOfKept{250};
/// Whoever closes the connection behind a response has done it by then.
constexpr std::chrono::milliseconds kKeepsBeyond{10};

struct Listening {
  files::Descriptor socket;
  files::Descriptor place;  ///< Of the socket, whose name is gone.
};

/// The address of a socket at `path`; nullopt if that is too long for one.
std::optional<sockaddr_un> address_at(const std::string& path) {
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  if (path.size() >= sizeof address.sun_path) return std::nullopt;
  std::memcpy(address.sun_path, path.c_str(), path.size() + 1);
  return address;
}

/// A path of what a descriptor refers to, which leads there whether or not that has a name.
std::string path_of(int descriptor) { return "/proc/self/fd/" + std::to_string(descriptor); }

/// A socket that listens in `folder` without a name; an errno if there is none to be had.
std::variant<Listening, int> listen_in(const std::string& folder) {
  static std::atomic<unsigned> count{0};
  Listening out;
  const files::Descriptor place(::open(folder.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC));
  if (!place.is_open()) return errno;
  out.socket.reset(::socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0));
  if (!out.socket.is_open()) return errno;
  // What a socket's file has when it is made is what the socket has before; the mask of the process only takes away.
  ::fchmod(out.socket.get(), 0600);
  // By way of the folder's descriptor, so that however long its path is, the address is not.
  const std::string name = "pool-" + std::to_string(::getpid()) + "-" + std::to_string(count++);
  const auto address = address_at(path_of(place.get()) + "/" + name);
  if (!address) return ENAMETOOLONG;
  ::unlinkat(place.get(), name.c_str(), 0);
  if (::bind(out.socket.get(), reinterpret_cast<const sockaddr*>(&*address), sizeof *address) != 0) return errno;
  out.place.reset(::openat(place.get(), name.c_str(), O_PATH | O_NOFOLLOW | O_CLOEXEC));
  const int error = out.place.is_open() ? 0 : errno;
  ::unlinkat(place.get(), name.c_str(), 0);
  if (error != 0) return error;
  if (::listen(out.socket.get(), 1) != 0) return errno;
  return out;
}

std::vector<ResourceLimit> limits_of(const PoolOrder& order) {
  // Not of processor time: that is for one run, and this counts all of them.
  std::vector<ResourceLimit> out = {{RLIMIT_NOFILE, {order.open_files, order.open_files}}, {RLIMIT_CORE, {0, 0}}};
  if (order.address_space > 0) out.push_back({RLIMIT_AS, {order.address_space, order.address_space}});
  return out;
}

}  // namespace

std::variant<std::unique_ptr<PooledProcess>, StartError> PooledProcess::start(const PoolOrder& order,
                                                                              const std::string& folder) {
  auto listening = listen_in(folder);
  if (const int* const error = std::get_if<int>(&listening)) return StartError{StartError::Step::resources, *error};
  auto& [socket, place] = std::get<Listening>(listening);
  files::Pipe error_stream;
  files::Pipe output;
  if (!files::make_pipe(error_stream) || (order.is_php && !files::make_pipe(output)))
    return StartError{StartError::Step::resources, errno};
  for (const files::Pipe* const pipe : {&error_stream, &output})
    if (pipe->read_end.is_open()) ::fcntl(pipe->read_end.get(), F_SETFL, O_NONBLOCK);
  StartOrder start;
  start.leaves_running = order.leaves_running;
  start.program = order.program;
  start.arguments = order.arguments;
  start.environment = script::Environment(order.environment);
  start.folder = order.folder;
  start.input = socket.get();
  start.error = error_stream.write_end.get();
  // What it prints to nobody in particular tells what is wrong, if it does not speak FastCGI at all. PHP does, and its
  // scripts may mean their page.
  start.output = order.is_php ? output.write_end.get() : start.error;
  start.limits = limits_of(order);
  auto started = Process::start(std::move(start));
  if (const auto* const failure = std::get_if<StartError>(&started)) return *failure;
  std::unique_ptr<PooledProcess> out(new PooledProcess);
  out->process_ = std::get<std::unique_ptr<Process>>(std::move(started));
  out->traces_.emplace(*out->process_, order.is_php);
  out->address_space_ = order.address_space;
  out->keeps_connection_ = out->is_php_ = order.is_php;
  out->listener_ = std::move(place);
  out->socket_ = std::move(socket);
  out->error_ = std::move(error_stream.read_end);
  out->output_ = std::move(output.read_end);
  return out;
}

void PooledProcess::attach(const asio::any_io_executor& executor) {
  if (connection_ && connection_->get_executor() == executor) return;
  files::Descriptor open;
  if (connection_ && connection_->is_open()) open.reset(connection_->release());
  connection_.emplace(executor);
  if (open.is_open()) connection_->assign(open.release());
}

bool PooledProcess::is_connected() {
  // One that was closed says so when it is written to, and what comes over it unasked bears the wrong number.
  if (!connection_->is_open() || is_php_ || runs == 0) return connection_->is_open();
  // Some close it behind a response, always or at times, and what is sent meanwhile is read by nobody.
  char byte = 0;
  const ssize_t got = ::recv(connection_->native_handle(), &byte, 1, MSG_PEEK | MSG_DONTWAIT);
  const bool is_open = got < 0 && errno == EAGAIN;
  keeps_connection_ = is_open && (keeps_connection_ || Clock::now() - idle_since >= kKeepsBeyond);
  return keeps_connection_;
}

int PooledProcess::connect() {
  if (is_connected()) return 0;
  disconnect();
  const auto address = address_at(path_of(listener_.get()));
  files::Descriptor socket(::socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0));
  if (!socket.is_open()) return errno;
  // Who has sent what, see Traces::is_own_word().
  const int is_told = 1;
  ::setsockopt(socket.get(), SOL_SOCKET, SO_PASSCRED, &is_told, sizeof is_told);
  if (::connect(socket.get(), reinterpret_cast<const sockaddr*>(&*address), sizeof *address) != 0) return errno;
  connection_->assign(socket.release());
  connection_->native_non_blocking(true);
  socket_.reset();
  return 0;
}

void PooledProcess::disconnect() {
  boost::system::error_code ignored;
  connection_->close(ignored);
}

std::uint16_t PooledProcess::next_request() {
  // 0 is the number of what belongs to no request.
  if (++last_request_ == 0) last_request_ = 1;
  return last_request_;
}

bool PooledProcess::read_streams() {
  pollfd streams[] = {{error_.get(), POLLIN, 0}, {output_.get(), POLLIN, 0}};  // One that is not open is passed over.
  if (::poll(streams, std::size(streams), 0) <= 0) return false;
  const std::size_t before = error_text_.text().size() + output_text_.text().size();
  if (streams[0].revents != 0) error_text_.read_from(error_.get());
  if (streams[1].revents != 0) output_text_.read_from(output_.get());
  return error_text_.text().size() + output_text_.text().size() != before;
}

void PooledProcess::terminate() {
  uncount_memory();
  process_->terminate(kGraceOfKept);
}

std::chrono::nanoseconds PooledProcess::processor_time_since_last() {
  const auto now = process_->processor_time();
  if (!now) return std::chrono::nanoseconds(0);
  return *now - std::exchange(last_processor_time_, *now).value_or(*now);
}

bool PooledProcess::is_near_its_limit() const {
  if (address_space_ == 0) return false;
  const std::size_t taken = process_->address_space();
  return taken > address_space_ / 4 * 3;
}

}  // namespace porter::run
