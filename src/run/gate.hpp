// The gate: how many scripts run at once, over all threads, and the queue of those that wait for their slot.
//
// A run has a slot from its start on, and there are few: so many work at once without being in each other's way. One
// that only streams (its response has begun, and it goes on and on) gives its slot back and keeps its leave to run; of
// those there may be many, up to a bound for all runs.
#pragma once

#include <sys/types.h>

#include <algorithm>
#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <chrono>
#include <cstddef>
#include <deque>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "run/event.hpp"
#include "run/work_share.hpp"

namespace porter::run {

class Gate : public std::enable_shared_from_this<Gate> {
 public:
  struct Bounds {
    std::size_t slots = 1;  ///< Runs that have a slot at once; at least 1.
    /// As many have one if those before them wait themselves and do not compute; 0: no more than `slots`.
    std::size_t most_slots = 0;
    std::size_t runs = 128;  ///< Runs in all, those that stream included; at least 1.
    std::size_t queue = 64;  ///< Requests that wait.
  };

  /// What is known of a run, for whoever asks what runs now.
  struct Run {
    std::string script;  ///< Its path on disk.
    std::string site;
    std::chrono::system_clock::time_point since;
    pid_t process = 0;  ///< 0: not started yet.
    bool streams = false;
  };

  /// Leave to run, for as long as it is held. For the thread of the run.
  class Pass {
   public:
    class Key {
      friend class Gate;
      Key() = default;
    };
    /// Only the gate has keys.
    Pass(Key, std::shared_ptr<Gate> gate, Run run, bool has_slot)
        : gate_(std::move(gate)), run_(std::move(run)), has_slot_(has_slot) {}
    ~Pass();
    Pass(const Pass&) = delete;
    Pass& operator=(const Pass&) = delete;

    /// The run only streams from now on. Once.
    void give_slot_back();
    /// The process that the run has become.
    void set_process(pid_t process);

   private:
    friend class Gate;

    const std::shared_ptr<Gate> gate_;
    Run run_;        // Guarded by the gate's mutex, as is what follows.
    bool has_slot_;  ///< It is counted among the slots.
    WorkShare work_;
  };
  using Ticket = std::shared_ptr<Pass>;

  /// A place in the queue. It belongs to the thread of the executor that it was made for.
  class Place : public std::enable_shared_from_this<Place> {
   public:
    Place(std::shared_ptr<Gate> gate, const asio::any_io_executor& executor, Run run)
        : gate_(std::move(gate)), executor_(executor), called_(executor), run_(std::move(run)) {}

    /// Waits for the slot, until `time` at most. Null: it has not come, or the place was given up.
    asio::awaitable<Ticket> slot_by(Clock::time_point time);
    /// Leaves the queue at once; slot_by() returns.
    void give_up();

   private:
    friend class Gate;

    std::shared_ptr<Gate> gate_;
    asio::any_io_executor executor_;
    Event called_;
    Run run_;
    Ticket ticket_;
  };

  explicit Gate(Bounds bounds) : bounds_(bounds) {}

  /// Leave for `run` if nothing stands in the way of it; else null. From any thread.
  Ticket try_enter(Run run);
  /// For a run that has begun and has its slot elsewhere, among the pooled processes of its site: it takes none here,
  /// and only counts among all runs. From any thread.
  Ticket enter_beside(Run run);
  /// Whether all runs together are as many as may be. From any thread.
  bool is_full();
  /// A place for `run` at the end of the queue, which moves in the order in which requests came. Null: the queue is
  /// full. `executor` has one thread, on which this is called. It may be the slot already.
  std::shared_ptr<Place> line_up(const asio::any_io_executor& executor, const Run& run);

  /// Other bounds, from any thread. What runs goes on.
  void set_bounds(Bounds bounds);
  Bounds bounds();

  struct State {
    std::vector<Run> runs;  ///< The oldest first.
    std::size_t waiting = 0;
  };
  /// What runs and waits now. From any thread.
  State state();

 private:
  /// With mutex_ held: whether another run may begin.
  bool has_room() const {
    const std::size_t most = std::max(bounds_.slots, std::min(bounds_.slots + waiting_at_work_, bounds_.most_slots));
    return with_slot_ < most && passes_.size() < bounds_.runs;
  }
  /// Looks which of the runs that have a slot compute, and lets others in for those that do not.
  void look_at_work(Clock::time_point now);
  /// With mutex_ held, when has_room(): leave for `run`.
  Ticket admit(Run run, bool has_slot);
  /// Lets those in for whom there is room.
  void call_next();
  /// The same where a lack of memory must not show: then they are let in when the next one leaves.
  void call_next_if_possible() noexcept;

  std::mutex mutex_;
  Bounds bounds_;  // Guarded by mutex_, as is all that follows.
  std::size_t with_slot_ = 0;
  std::size_t waiting_at_work_ = 0;  ///< Of those, as of the last look.
  Clock::time_point looked_at_work_{};
  std::vector<Pass*> passes_;
  std::deque<std::shared_ptr<Place>> waiting_;
};

}  // namespace porter::run
