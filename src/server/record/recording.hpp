// One exchange in progress, as it passes the transport.
#pragma once

#include <chrono>
#include <cstddef>
#include <cstdint>
#include <string_view>

#include "core/exchange/recorded.hpp"
#include "server/connection/transport.hpp"
#include "server/record/exchange.hpp"
#include "server/record/exchange_block.hpp"

namespace porter::server {

class ExchangeStore;
class Shelf;

/// One exchange in progress: told of all that passes the transport. It is over when it is destroyed.
class Recording : public Tap {
 public:
  Recording(Shelf& shelf, std::uint64_t number, const Exchange& exchange, const RecordedEnds& ends);
  ~Recording() override;

  std::uint64_t number() const { return number_; }

  void received(std::string_view bytes) noexcept override;
  void sent(const Outgoing& before, const Outgoing& left) noexcept override;
  void sent(std::string_view bytes) noexcept override;
  /// Takes over the facts, as they are now; of those that nobody else tells of nothing is left in `exchange`.
  void note(Exchange& exchange) noexcept;

 private:
  friend class Shelf;
  friend class ExchangeStore;

  /// Bytes of one direction.
  struct Side {
    exchange::Wire wire;
    LongBytes long_bytes;       ///< What is kept, once that is much; until then it stands in `wire`.
    std::uint64_t body = 0;     ///< Bytes behind the head.
    bool has_head = false;      ///< Its head is whole.
    bool is_full = false;       ///< Nothing more of it is kept.
    std::size_t head_from = 0;  ///< Where the last head begins: there may be interim ones before it.

    std::string_view kept() const { return long_bytes.is_empty() ? std::string_view(wire.bytes) : long_bytes.view(); }
  };
  void keep(Side& side, std::string_view bytes);
  void append_body(Side& side, std::string_view bytes);
  void keep(const FilePart& part, std::uint64_t sent);
  /// Does what `note` does with the mutex held; where memory lacks nothing more is kept.
  template <typename Note>
  void note_safely(Note note) noexcept;
  void note_first_byte(std::string_view bytes);
  /// Counts what it takes by now.
  void count();
  exchange::Recorded recorded(RecordedWith with) const;

  Shelf& shelf_;
  const std::uint64_t number_;
  std::uint64_t repeats_ = 0;
  const Ends ends_;
  const std::chrono::nanoseconds head_wait_;
  const std::uint64_t body_limit_;
  std::chrono::nanoseconds first_byte_{0};
  std::size_t counted_ = 0;
  // Guarded by the shelf's mutex.
  Exchange facts_;
  Side request_;
  Side response_;
  bool is_noted_ = false;
};

}  // namespace porter::server
