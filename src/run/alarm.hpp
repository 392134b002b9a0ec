// An alarm: a timer whose wait takes no memory, for what must come to pass whatever becomes of memory: deadlines, and
// looks that set the next look.
//
// Asio asks the handler's own allocator for the memory of a wait. Ours has it at hand: a few places, since a wait that
// was replaced holds its place until the event loop has let go of it. (The list of all timers that Asio keeps may still
// have to grow for one more; then the alarm is not set, and whoever sets it is told.)
#pragma once

#include <array>
#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/steady_timer.hpp>
#include <chrono>
#include <cstddef>
#include <new>
#include <utility>

namespace porter::run {

namespace asio = boost::asio;

/// For the thread of its event loop, which it must not outlive.
class Alarm {
 public:
  explicit Alarm(const asio::any_io_executor& executor) : timer_(executor) {}
  Alarm(const Alarm&) = delete;
  Alarm& operator=(const Alarm&) = delete;

  /// Calls `then` at `time`, in place of what was set before. False: it could not be set; nothing will be called.
  template <typename Then>
  bool set(std::chrono::steady_clock::time_point time, Then then) noexcept {
    try {
      timer_.expires_at(time);
      timer_.async_wait(Handler<Then>{std::move(then), Memory<std::byte>(places_)});
      return true;
    } catch (const std::bad_alloc&) {
      return false;
    }
  }
  void cancel() { timer_.cancel(); }

 private:
  struct Place {
    alignas(std::max_align_t) std::array<std::byte, 256> bytes;
    bool is_taken = false;
  };
  using Places = std::array<Place, 4>;

  template <typename Value>
  struct Memory {
    using value_type = Value;
    explicit Memory(Places& all) : places(&all) {}
    template <typename Other>
    Memory(const Memory<Other>& other) : places(other.places) {}  // NOLINT(google-explicit-constructor)

    Value* allocate(std::size_t count) {
      for (Place& place : *places) {
        if (place.is_taken || count * sizeof(Value) > place.bytes.size()) continue;
        place.is_taken = true;
        return reinterpret_cast<Value*>(place.bytes.data());
      }
      return static_cast<Value*>(::operator new(count * sizeof(Value)));
    }
    void deallocate(Value* value, std::size_t) {
      for (Place& place : *places)
        if (reinterpret_cast<std::byte*>(value) == place.bytes.data()) {
          place.is_taken = false;
          return;
        }
      ::operator delete(value);
    }
    template <typename Other>
    bool operator==(const Memory<Other>& other) const {
      return places == other.places;
    }

    Places* places;
  };

  template <typename Then>
  struct Handler {
    using allocator_type = Memory<std::byte>;
    allocator_type get_allocator() const noexcept { return memory; }
    void operator()(const boost::system::error_code& error) {
      if (!error) then();
    }
    Then then;
    allocator_type memory;
  };

  Places places_{};
  asio::steady_timer timer_;
};

}  // namespace porter::run
