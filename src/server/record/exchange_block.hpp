// A block of exchanges that are over, one behind the other.
#pragma once

#include <algorithm>
#include <chrono>
#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <string_view>
#include <vector>

#include "core/exchange/recorded.hpp"
#include "server/connection/transport.hpp"
#include "server/record/exchange.hpp"
#include "server/record/long_bytes.hpp"

namespace porter::server {

/// What an exchange has from its connection and from the way to its head.
struct RecordedEnds {
  const Ends* ends = nullptr;
  std::chrono::nanoseconds head_wait{0};
};

/// Whether bytes, runs and trails are wanted too.
enum class RecordedWith { heads, all };

/// What is kept of an exchange that was answered, as the log has it: "file", "script", …
std::string_view kind_of(const AnsweredBy& by);

/// Puts what `facts` says into `out`.
void take_facts(exchange::Recorded& out, const Exchange& facts, RecordedWith with);
/// Puts both ends of the connection into `out`.
void take_ends(exchange::Recorded& out, const Ends& ends);

/// The file that `part` is a part of, as it is now; `length` bytes of it.
exchange::FileSlice slice_of(const FilePart& part, std::uint64_t length);

/// A block of exchanges that are over. What has been added does not change any more.
class ExchangeBlock {
 public:
  /// What of an exchange is not the same for all.
  struct Detail {
    Exchange facts;
    std::vector<exchange::FileSlice> slices;
    std::chrono::nanoseconds first_byte{0};
    // What is too long to be copied into a block; empty: it lies there.
    LongBytes request;
    LongBytes response;

    std::size_t size() const;
  };

  /// An exchange as it is put in; what is pointed to is copied.
  struct Entry {
    std::uint64_t number = 0;
    std::uint64_t repeats = 0;
    RecordedEnds ends;
    std::string_view site;
    std::string_view request;          ///< What is kept of it, as that of the response.
    std::uint64_t request_length = 0;  ///< All that went, as that of the response.
    std::uint64_t response_length = 0;
    std::size_t response = 0;  ///< Bytes that are kept of it.
    /// All is told by the bytes and by what put() is given: a file, mostly one that lay ready.
    bool is_plain = false;
    /// Some of its bytes are in the detail, which makes it too large for a block with others.
    bool is_long = false;

    /// Bytes of text that it needs.
    std::size_t size() const;
  };

  /// One exchange that is over.
  struct Kept;

  explicit ExchangeBlock(std::size_t size);
  ~ExchangeBlock();
  ExchangeBlock(const ExchangeBlock&) = delete;
  ExchangeBlock& operator=(const ExchangeBlock&) = delete;

  /// Puts one in. `facts` has its time and status; a null `detail` is that of a file that lay ready. The place of the
  /// bytes of its response, which the caller writes; null: there is no room, and nothing was taken.
  char* put(const Entry& entry, const Exchange& facts, std::unique_ptr<Detail>& detail);
  std::size_t count() const { return count_; }
  std::uint64_t number(std::size_t index) const;
  exchange::Recorded recorded(std::size_t index, RecordedWith with) const;
  /// Bytes that it takes.
  std::size_t size() const { return size_ + detail_bytes_; }
  /// Bytes that the exchanges take beside it.
  std::size_t detail_bytes() const { return detail_bytes_; }
  /// The highest number in it.
  std::uint64_t last() const { return last_; }
  /// Bytes of a block that holds one exchange alone.
  static std::size_t size_for(const Entry& entry);
  /// Makes it empty again. Gives `keep` long bytes that went, whose memory may be of use.
  void clear(const std::function<void(LongBytes)>& keep);

 private:
  Kept* add(std::size_t bytes);
  const Kept& at(std::size_t index) const;

  char* memory_;
  std::size_t size_;
  std::size_t used_ = 0;  ///< Of text, from the beginning on; what is kept stands at the end, going back.
  std::size_t count_ = 0;
  std::size_t detail_bytes_ = 0;
  std::uint64_t last_ = 0;
};

}  // namespace porter::server
