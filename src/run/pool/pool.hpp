// Pools: the persistent processes of one site's interpreter, shared by all threads.
//
// The pool's count of processes, those that are idle, and the queue of requests are behind one lock. Whoever changes
// one of them does so under it, and then calls whom it concerns: so nobody waits while a process is idle or may be
// started, and the queue is served in order of arrival. A process belongs to no thread: while a run has it, it is used
// on that run's thread; idle and dying ones are the keeper's, an event loop that lasts as long as the server.
//
//   starting -> at work <-> idle -> dying -> reaped
//                  \__________________/
#pragma once

#include <sys/stat.h>

#include <algorithm>
#include <atomic>
#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <unordered_map>
#include <variant>
#include <vector>

#include "run/alarm.hpp"
#include "run/fastcgi/external.hpp"
#include "run/fastcgi/run.hpp"
#include "run/pool/files.hpp"
#include "run/pool/memory.hpp"
#include "run/pool/order.hpp"
#include "run/pool/process.hpp"

namespace porter::run {

class Pool;
class PoolPeer;

/// Is told what a process of a pool has written to its error stream between two runs. From any thread.
using LateWords = std::function<void(const PoolOrder& pool, pid_t process, const std::string& text)>;

/// A place in the queue for a process. For the thread that it was made on, but for what the pool does under its lock.
class QueuePlace : public std::enable_shared_from_this<QueuePlace> {
 public:
  QueuePlace(std::shared_ptr<Pool> pool, const asio::any_io_executor& executor, std::string request)
      : pool_(std::move(pool)), executor_(executor), wakeup_(executor), request_(std::move(request)) {}
  /// What was set aside and not taken goes back.
  ~QueuePlace();
  QueuePlace(const QueuePlace&) = delete;
  QueuePlace& operator=(const QueuePlace&) = delete;

  /// Waits until `time` at most. True: Pool::take() may be tried again, and something is set aside.
  asio::awaitable<bool> come_by(Clock::time_point time);
  /// Leaves the queue at once; come_by() returns.
  void give_up();
  /// Gives `order` its request back, and tells what of it was sent. Once something is set aside.
  void give_back(FastCgiRun::Order& order) {
    order.request = std::move(request_);
    order.sent = sent_;
  }

 private:
  friend class Pool;
  friend class PoolAccess;

  /// Something was set aside.
  void come();
  /// Called from time to time: a request that was sent by another thread may be a long one, and its time may be up.
  /// False: there is nothing to be looked at any more.
  bool look(Clock::time_point now);
  bool is_begun();
  bool is_given_up();

  const std::shared_ptr<Pool> pool_;
  const asio::any_io_executor executor_;
  Wakeup wakeup_;
  bool has_come_ = false;
  // Guarded by the pool's lock.
  bool is_begun_ = false;     ///< Its request was sent for it, and the response will call it.
  bool is_given_up_ = false;  ///< Nobody waits for it.
  const Clock::time_point since_ = Clock::now();
  Clock::time_point until_ = Clock::time_point::max();
  std::string request_;
  // Set under the pool's lock before come() is called, one of them; for the place alone from then on.
  std::shared_ptr<PooledProcess> process_;
  std::optional<FastCgiRun::Order::Sent> sent_;  ///< To process_, by whoever had it before.
  bool may_start_ = false;                       ///< A process is counted for it already.
  std::optional<StartError> failure_;
};

/// All functions may be called from any thread.
class Pool : public std::enable_shared_from_this<Pool> {
 public:
  /// `folder` is where sockets are for a moment, mode 0700. `keeper` runs until all processes have ended. Processes
  /// count in `memory`.
  Pool(PoolOrder order, std::string folder, asio::any_io_executor keeper, std::shared_ptr<PoolMemory> memory,
       LateWords late_words = nullptr);

  const PoolOrder& order() const { return order_; }
  /// The words that its processes were started with, each with a zero behind it.
  const std::string& command_text() const { return command_text_; }
  /// What its processes were started from, files included. Those of an older generation are replaced.
  PoolFiles& files() { return files_; }
  /// A run of the script at `path` is to follow, whose file is as `info` says. Its processes may have compiled another
  /// one that they cannot tell from it: then they are replaced.
  void note_script(const std::string& path, const struct stat& info);
  /// True for the first who asks: somebody has to find out what its interpreter reads at its start.
  bool is_to_be_watched() { return !is_watched_.exchange(true); }
  /// Where requests wait for external servers; null: the server starts its own.
  const std::shared_ptr<Gate>& gate() const { return gate_; }

  struct State {
    std::size_t processes = 0;  ///< Those that only stream not included.
    std::size_t idle = 0;
    std::size_t waiting = 0;  ///< Requests.
    std::uint64_t runs = 0;   ///< So far.
  };
  State state();

  /// Nothing: all are at work, so that one has to be waited for.
  struct NoneFree {};
  /// A process for one run on the thread of `executor`, idle until now or new. With a place that has come, what was set
  /// aside for it.
  std::variant<std::shared_ptr<FastCgiPeer>, StartError, NoneFree> take(const asio::any_io_executor& executor,
                                                                        QueuePlace* place = nullptr);
  /// A place at the end of the queue for `order`, whose request goes there, if not more than `queue` requests wait
  /// already; else null.
  std::shared_ptr<QueuePlace> line_up(const asio::any_io_executor& executor, FastCgiRun::Order& order,
                                      std::size_t queue);

  const PoolMemory& memory() const { return *memory_; }

  /// Somebody has waited for a moment: looks whether those that are at work compute, and lets another one be started
  /// for each that does not, and whether there is memory for another by now. Called from time to time while somebody
  /// waits; it does nothing more often than it has to.
  void look_at_work(Clock::time_point now) noexcept;

  /// It is needed no more: what runs comes to its end, and then no process is left.
  void retire();
  bool is_retired() const { return is_retired_; }
  /// When the process that has been idle longest came to be so; nullopt: none is idle.
  std::optional<Clock::time_point> idle_longest();
  /// Ends that one.
  void end_longest_idle();

 private:
  friend class QueuePlace;
  friend class PoolPeer;

  using Lock = std::unique_lock<std::mutex>;

  /// What was set aside for `place`, or one that is idle, ready for another run; null: there is none. Those that cannot
  /// be used are added to `useless`, and their places, and one where another may be started, to `places`.
  std::shared_ptr<PooledProcess> find_ready(const asio::any_io_executor& executor, QueuePlace* place,
                                            std::vector<std::shared_ptr<PooledProcess>>& useless, std::size_t& places);
  std::variant<std::shared_ptr<PooledProcess>, StartError> start(const asio::any_io_executor& executor);
  std::shared_ptr<FastCgiPeer> lend(const asio::any_io_executor& executor, std::shared_ptr<PooledProcess> process);
  /// A run is over with `process`. For lack of memory it ends, as if it had ended by itself.
  void give_back(std::shared_ptr<PooledProcess> process, FastCgiPeer::Reusable reusable) noexcept;
  /// Tells `place` that a process is set aside for it. One that has not waited for long has its request sent from here:
  /// the process would be idle until its thread has heard of that, and so the response tells it.
  void tell(const std::shared_ptr<QueuePlace>& place) noexcept;
  /// Sends the request of `place`. False: that is left to its own thread.
  bool begin(const std::shared_ptr<QueuePlace>& place) noexcept;
  /// Ends a process that is at work for nobody.
  void discard(std::shared_ptr<PooledProcess> process) noexcept;
  void only_streams(PooledProcess& process);
  bool is_worn_out(PooledProcess& process) const noexcept;
  /// Whether a run has left in it what would reach the next one.
  static bool was_altered(PooledProcess& process, bool leaves_running) noexcept;
  /// The part of that which is looked at before a run as well. For lack of memory: it has.
  static bool has_altered_limits(PooledProcess& process) noexcept;
  /// With the lock held: whoever waits first gets `process`, and is returned to be called; null: it is idle now.
  std::shared_ptr<QueuePlace> set_aside(std::shared_ptr<PooledProcess> process);
  /// With the lock held: whether another process may be started.
  bool may_start() const {
    return processes_ < std::min(order_.processes, order_.at_once + waiting_at_work_) && memory_->has_room();
  }
  /// With the lock held: a process is counted no more. Whoever waits first may start one in its place, and is returned
  /// to be called; null: nobody waits.
  std::shared_ptr<QueuePlace> uncount();
  /// Counts one no more, and calls whom that concerns.
  void give_up_place() noexcept;
  /// A start has failed: nobody else is to try it for those that wait, unless there are others that will come to them.
  void start_has_failed(const StartError& error);
  static void call(const std::shared_ptr<QueuePlace>& place) noexcept;
  /// The libraries that it has loaded are among the files that it was started from.
  void watch_mapped_files(const PooledProcess& process) noexcept;
  /// Tells what it has written since its last run was over.
  void tell_late_words(PooledProcess& process);
  /// Has the keeper see to its end.
  void terminate_and_reap(std::shared_ptr<PooledProcess> process) noexcept;

  // On the keeper's thread.

  void watch_end(const std::shared_ptr<PooledProcess>& process, files::Descriptor end);
  void process_ended(const std::shared_ptr<PooledProcess>& process);
  void look_at_dying();
  void look_at_idle();

  const PoolOrder order_;
  std::string command_text_;
  const std::string folder_;
  const asio::any_io_executor keeper_;
  const std::shared_ptr<PoolMemory> memory_;
  const LateWords late_words_;
  PoolFiles files_;
  std::shared_ptr<Gate> gate_;
  std::atomic<bool> is_watched_{false};
  std::atomic<bool> is_retired_{false};
  std::atomic<std::uint64_t> runs_{0};
  Alarm idle_alarm_;  // The keeper's, as is the next.
  Alarm dying_alarm_;
  std::mutex mutex_;
  std::size_t processes_ = 0;                         // Guarded by mutex_, as is all that follows.
  std::vector<std::shared_ptr<PooledProcess>> idle_;  ///< The one that has worked last comes last.
  std::deque<std::shared_ptr<QueuePlace>> waiting_;
  std::vector<std::shared_ptr<PooledProcess>> dying_;
  std::vector<PooledProcess*> at_work_;
  std::size_t waiting_at_work_ = 0;  ///< Of those, as of the last look.
  Clock::time_point looked_at_work_{};
  std::unordered_map<std::string, struct stat> scripts_;  ///< As they were seen last.
  bool is_idle_watched_ = false;                          ///< The keeper will look at those that are idle.
};

/// A thread's way to a pool.
class PoolAccess : public FastCgiPeers, public std::enable_shared_from_this<PoolAccess> {
 public:
  PoolAccess(asio::any_io_executor executor, std::shared_ptr<Pool> pool)
      : executor_(std::move(executor)), pool_(std::move(pool)), alarm_(executor_) {
    if (!pool_->order().external.empty()) external_.emplace(pool_->order().external);
  }

  const std::shared_ptr<Pool>& pool() const { return pool_; }
  auto take(QueuePlace* place) { return pool_->take(executor_, place); }
  void ask(std::function<void(std::shared_ptr<FastCgiPeer>)> then) override;
  std::shared_ptr<QueuePlace> line_up(FastCgiRun::Order& order, std::size_t queue);
  /// Those that others have started; null: it has its own.
  ExternalServers* external() { return external_ ? &*external_ : nullptr; }

 private:
  /// Waits for a process for `then`, however long that takes.
  static asio::awaitable<void> wait_for_one(std::shared_ptr<PoolAccess> share, std::shared_ptr<QueuePlace> place,
                                            std::function<void(std::shared_ptr<FastCgiPeer>)> then);

  void look_at_waiting();

  const asio::any_io_executor executor_;
  const std::shared_ptr<Pool> pool_;
  std::optional<ExternalServers> external_;
  std::vector<std::weak_ptr<QueuePlace>> waiting_;  ///< As of the last look at them, and since.
  Alarm alarm_;
  bool is_looked_after_ = false;
};

/// The pools of a server. From any thread.
class Pools {
 public:
  /// Where sockets are for a moment, mode 0700: set before the first pool is made, as are the next two.
  void set_folder(std::string folder) { folder_ = std::move(folder); }
  void set_keeper(asio::any_io_executor keeper) { keeper_ = std::move(keeper); }
  void set_late_words(LateWords late_words) { late_words_ = std::move(late_words); }
  /// Bytes that all processes together may take.
  void set_memory_bound(std::size_t bytes) { memory_->set_bound(bytes); }
  /// The pool for `order`, which is made if there is none yet.
  std::shared_ptr<Pool> of(const PoolOrder& order);
  /// Retires the pools of which `is_wanted` is false.
  void keep_only(const std::function<bool(const PoolOrder&)>& is_wanted);
  std::vector<std::shared_ptr<Pool>> all();
  /// Ends the process that has been idle longest of all. False: none is idle.
  bool end_longest_idle();
  /// The server stops: what is idle ends now, and the rest when its run is over.
  void close();
  /// Lets go of all of them, before the keeper is gone.
  void clear();

 private:
  std::string folder_;
  asio::any_io_executor keeper_;
  LateWords late_words_;
  const std::shared_ptr<PoolMemory> memory_ = std::make_shared<PoolMemory>([this] { return end_longest_idle(); });
  std::mutex mutex_;
  std::vector<std::shared_ptr<Pool>> pools_;  // Guarded by mutex_, as is the next.
  bool is_closed_ = false;
};

}  // namespace porter::run
