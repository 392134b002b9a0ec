// See exchange_block.hpp.
#include "server/record/exchange_block.hpp"

#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <climits>
#include <new>
#include <utility>

#include "server/record/log_line.hpp"
#include "server/response/writer.hpp"

namespace porter::server {
namespace {

using exchange::Recorded;

std::string_view up_to(std::string_view text, std::string_view ends) {
  return text.substr(0, text.find_first_of(ends));
}

/// The words in `text`, each of which has a zero behind it.
std::vector<std::string> words_of(std::string_view text) {
  std::vector<std::string> out;
  for (std::size_t end = 0; (end = text.find('\0')) != text.npos; text.remove_prefix(end + 1))
    out.emplace_back(text.substr(0, end));
  return out;
}

exchange::Run run_of(const RunFacts& facts) {
  exchange::Run run;
  run.runner = facts.runner;
  run.script = facts.script;
  if (const auto& order = facts.order) {
    run.command = words_of(order->command);
    run.environment = words_of(order->environment);
    run.folder = order->folder;
  }
  run.redirected_to = facts.redirected_to;
  if (facts.persistent) {
    run.way = facts.persistent->external.empty() ? exchange::Run::Way::persistent : exchange::Run::Way::external;
    run.process = facts.persistent->process;
    run.run_of_process = facts.persistent->run;
    run.external = facts.persistent->external;
  }
  run.exit_status = facts.exit_status;
  run.signal = facts.signal;
  run.queue_wait = facts.queue_wait;
  run.waited_for = facts.waited_for;
  run.start = facts.start;
  run.duration = facts.duration;
  run.processor_time = facts.processor_time;
  run.peak_memory_kib = static_cast<std::uint64_t>(facts.peak_memory_kib);
  run.error_lines = facts.error_lines;
  run.more_error_lines = facts.more_error_lines;
  return run;
}

}  // namespace

std::string_view kind_of(const AnsweredBy& by) {
  static constexpr std::string_view kKinds[] = {"",        "file",     "listing", "start-page",
                                                "options", "redirect", "script",  "problem"};
  static_assert(std::size(kKinds) == std::variant_size_v<AnsweredBy>);
  return kKinds[by.index()];
}

exchange::FileSlice slice_of(const FilePart& part, std::uint64_t length) {
  exchange::FileSlice slice;
  std::array<char, PATH_MAX> path;
  const std::string link = "/proc/self/fd/" + std::to_string(part.file);
  const ssize_t got = ::readlink(link.c_str(), path.data(), path.size());
  if (got > 0) slice.file.assign(path.data(), static_cast<std::size_t>(got));
  struct stat info {};
  if (::fstat(part.file, &info) == 0) {
    slice.size = static_cast<std::uint64_t>(info.st_size);
    slice.modified = info.st_mtim.tv_sec * 1'000'000'000LL + info.st_mtim.tv_nsec;
    slice.device = info.st_dev;
    slice.inode = info.st_ino;
  }
  slice.offset = part.offset;
  slice.length = length;
  return slice;
}

void take_facts(Recorded& out, const Exchange& facts, RecordedWith with) {
  out.method = facts.method;
  out.target = facts.target;
  out.site = facts.site ? *facts.site : "";
  out.status = facts.status;
  out.body_bytes = facts.body_bytes;
  out.kind = kind_of(facts.by);
  out.answered_by = answered_by(facts);
  out.error_count = error_count(facts);
  out.findings = facts.findings;
  if (with == RecordedWith::heads) return;
  for (const RunFacts& run : facts.runs) out.runs.push_back(run_of(run));
  out.trail = facts.trail;
}

void take_ends(Recorded& out, const Ends& ends) {
  out.client = ends.client_address;
  out.client_port = ends.client_port;
  out.server = ends.server_address;
  out.server_port = ends.server_port;
}

std::size_t ExchangeBlock::Detail::size() const {
  std::size_t size = sizeof *this + bytes_of(facts) + request.memory() + response.memory();
  for (const exchange::FileSlice& slice : slices) size += sizeof slice + slice.file.capacity();
  return size;
}

std::size_t ExchangeBlock::Entry::size() const {
  return ends.ends->client_address.size() + ends.ends->server_address.size() + site.size() + request.size() + response;
}

// It lies in the block's memory, so it is destroyed by the block: the detail alone needs it.
struct ExchangeBlock::Kept {
  std::uint64_t number;
  std::uint64_t repeats;
  std::chrono::system_clock::time_point time;
  std::chrono::nanoseconds duration;
  std::chrono::nanoseconds head_wait;
  std::uint64_t body_bytes;
  std::uint64_t request_length;
  std::uint64_t response_length;
  Detail* detail;  ///< Its own; null: there is nothing more to tell.
  // Of the text, one behind the other.
  std::uint32_t begin;
  std::uint32_t request;
  std::uint32_t response;
  std::uint16_t client_port;
  std::uint16_t server_port;
  std::uint16_t status;
  std::uint16_t site;
  std::uint8_t client;
  std::uint8_t server;
  bool is_plain;
};

char* ExchangeBlock::put(const Entry& entry, const Exchange& facts, std::unique_ptr<Detail>& detail) {
  Kept* const kept = add(entry.size());
  if (kept == nullptr) return nullptr;
  const Ends& ends = *entry.ends.ends;
  kept->number = entry.number;
  kept->repeats = entry.repeats;
  kept->time = facts.time;
  kept->duration = facts.duration;
  kept->head_wait = entry.ends.head_wait;
  kept->body_bytes = facts.body_bytes;
  kept->status = static_cast<std::uint16_t>(facts.status);
  kept->client_port = ends.client_port;
  kept->server_port = ends.server_port;
  kept->client = static_cast<std::uint8_t>(ends.client_address.size());
  kept->server = static_cast<std::uint8_t>(ends.server_address.size());
  kept->site = static_cast<std::uint16_t>(entry.site.size());
  kept->request = static_cast<std::uint32_t>(entry.request.size());
  kept->request_length = entry.request_length;
  kept->response = static_cast<std::uint32_t>(entry.response);
  kept->response_length = entry.response_length;
  kept->is_plain = entry.is_plain;
  kept->detail = detail.release();
  if (kept->detail != nullptr) detail_bytes_ += kept->detail->size();
  last_ = std::max(last_, entry.number);
  char* text = memory_ + kept->begin;
  for (const std::string_view part :
       {std::string_view(ends.client_address), std::string_view(ends.server_address), entry.site, entry.request})
    text = std::copy(part.begin(), part.end(), text);
  return text;
}

Recorded ExchangeBlock::recorded(std::size_t index, RecordedWith with) const {
  const Kept& kept = at(index);
  Recorded out;
  const char* next = memory_ + kept.begin;
  const auto take = [&next](std::size_t size) { return std::string_view(std::exchange(next, next + size), size); };
  out.number = kept.number;
  out.repeats = kept.repeats;
  out.time = kept.time;
  out.duration = out.first_byte = kept.duration;
  out.head_wait = kept.head_wait;
  out.client = take(kept.client);
  out.server = take(kept.server);
  out.site = take(kept.site);
  out.client_port = kept.client_port;
  out.server_port = kept.server_port;
  const std::string_view request = take(kept.request);
  const std::string_view response = take(kept.response);
  out.request.length = kept.request_length;
  out.response.length = kept.response_length;
  if (kept.detail != nullptr) {
    if (!kept.is_plain) take_facts(out, kept.detail->facts, with);
    out.first_byte = kept.detail->first_byte;
    out.response.slices = kept.detail->slices;
  }
  if (kept.is_plain) {
    out.method = up_to(request, " \r\n");
    out.target = up_to(request.substr(std::min(request.size(), out.method.size() + 1)), " \r\n");
    out.status = kept.status;
    out.body_bytes = kept.body_bytes;
    out.kind = out.answered_by = "file";
    if (with == RecordedWith::all)
      out.trail = {"The response lay ready in memory since an earlier request, and the file had not changed."};
  }
  if (with == RecordedWith::heads) return out;
  const auto long_or = [&kept](LongBytes Detail::*of_detail, std::string_view in_block) {
    return kept.detail == nullptr || (kept.detail->*of_detail).is_empty() ? in_block : (kept.detail->*of_detail).view();
  };
  out.request.bytes = long_or(&Detail::request, request);
  out.response.bytes = long_or(&Detail::response, response);
  return out;
}

ExchangeBlock::ExchangeBlock(std::size_t size) : size_(size) {
  void* const memory = ::mmap(nullptr, size, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  if (memory == MAP_FAILED) throw std::bad_alloc();
  memory_ = static_cast<char*>(memory);
}

ExchangeBlock::~ExchangeBlock() {
  clear(nullptr);
  ::munmap(memory_, size_);
}

void ExchangeBlock::clear(const std::function<void(LongBytes)>& keep) {
  for (std::size_t i = 0; detail_bytes_ > 0 && i < count_; ++i) {
    const std::unique_ptr<Detail> detail(at(i).detail);
    if (!detail || !keep) continue;
    for (LongBytes* const bytes : {&detail->request, &detail->response})
      if (!bytes->is_empty()) keep(std::move(*bytes));
  }
  used_ = count_ = detail_bytes_ = 0;
  last_ = 0;
}

const ExchangeBlock::Kept& ExchangeBlock::at(std::size_t index) const {
  return reinterpret_cast<const Kept*>(memory_ + size_)[-static_cast<std::ptrdiff_t>(index) - 1];
}

ExchangeBlock::Kept* ExchangeBlock::add(std::size_t bytes) {
  if (used_ + bytes + (count_ + 1) * sizeof(Kept) > size_) return nullptr;
  Kept* const kept = reinterpret_cast<Kept*>(memory_ + size_) - static_cast<std::ptrdiff_t>(count_) - 1;
  new (kept) Kept{};
  kept->begin = static_cast<std::uint32_t>(used_);
  used_ += bytes;
  ++count_;
  // The next is mostly as large, and its place will have come nearer by then.
  constexpr std::size_t kLine = 64;
  constexpr std::size_t kMostNear = 2048;
  const std::size_t end = std::min(used_ + std::min(bytes, kMostNear), size_);
  for (std::size_t at = used_; at < end; at += kLine) __builtin_prefetch(memory_ + at, 1);
  return kept;
}

std::uint64_t ExchangeBlock::number(std::size_t index) const { return at(index).number; }

std::size_t ExchangeBlock::size_for(const Entry& entry) {
  constexpr std::size_t kMemoryPage = 4096;
  return (entry.size() + sizeof(Kept) + kMemoryPage - 1) / kMemoryPage * kMemoryPage;
}

}  // namespace porter::server
