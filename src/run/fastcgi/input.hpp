// What a program is sent of one request: its beginning, and its input in records behind it.
#pragma once

#include <array>
#include <boost/asio/awaitable.hpp>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <string>
#include <string_view>

#include "run/fastcgi/peer.hpp"

namespace porter::run {

/// For one thread.
class FastCgiInput {
 public:
  /// `records` begin the request, composed for no number yet. `is_whole`: they are all of it.
  FastCgiInput(std::string records, bool is_whole)
      : text_(std::move(records)), state_(is_whole ? State::closed : State::open), is_whole_(is_whole) {}

  /// It goes to `peer` as the request with that `number`, of which `sent` bytes have gone there. Once again where it is
  /// whole: all of it goes to another one then.
  void begin(std::shared_ptr<FastCgiPeer> peer, std::uint16_t number, std::size_t sent);
  /// Gives the records back, if they have not been read.
  std::string take_records() { return std::move(text_); }
  bool is_whole() const { return is_whole_; }

  /// Sends what goes at once of what was to come first. False: nobody is there.
  bool send_now();
  /// Sends the rest of that as soon as there is room, while `owner` lives.
  void flush_meanwhile(const std::weak_ptr<void>& owner);
  /// Sends `data` as input. False: it is not taken.
  asio::awaitable<bool> write(std::string_view data);
  /// Shows the end of the input.
  void close(const std::weak_ptr<void>& owner);
  /// Nothing more can be sent: whoever is about to goes on.
  void break_off();

  /// True if all has gone out, its end included.
  bool is_done() const { return state_ == State::closed && unsent().empty() && !is_writing_; }

 private:
  using Parts = std::array<std::string_view, 4>;

  /// Sends all of them, one behind the other.
  asio::awaitable<bool> send(Parts parts);
  std::string_view unsent() const { return std::string_view(text_).substr(sent_); }

  std::shared_ptr<FastCgiPeer> peer_;  ///< Null once nothing more can be sent.
  std::uint16_t number_ = 0;
  std::string text_;
  std::size_t sent_ = 0;  ///< Bytes of it.
  enum class State { open, closed, broken } state_;
  const bool is_whole_;
  bool is_writing_ = false;
};

}  // namespace porter::run
