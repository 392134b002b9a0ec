// Pools: the kept processes of one site's interpreter, shared by all threads.
//
// A process is at home with the thread that it has last worked for, and waits there for its next run; taking it and
// putting it back needs no lock. Only a thread that finds none at home asks for more: under the pool's lock it counts
// another process, if there may be one more, or lines up. Whoever puts a process down and sees that somebody waits
// hands it over, from one thread to the other if need be.
#pragma once

#include <atomic>
#include <boost/asio/any_io_executor.hpp>
#include <boost/asio/awaitable.hpp>
#include <boost/asio/steady_timer.hpp>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <memory>
#include <mutex>
#include <string>
#include <variant>
#include <vector>

#include "run/fastcgi_run.hpp"
#include "run/kept_files.hpp"
#include "run/kept_order.hpp"
#include "run/kept_process.hpp"
#include "run/workers.hpp"

namespace porter::run {

class KeptShare;

class KeptPool : public std::enable_shared_from_this<KeptPool> {
 public:
  /// `folder` is where sockets are for a moment, mode 0700.
  KeptPool(KeptOrder order, std::string folder);

  const KeptOrder& order() const { return order_; }
  /// The words that its processes were started with, each with a zero behind it.
  const std::string& command_text() const { return command_text_; }
  /// What its processes were started from, files included. Those of an older generation are replaced.
  KeptFiles& files() { return files_; }
  /// True for the first who asks: somebody has to find out what its interpreter reads at its start.
  bool is_to_be_watched() { return !is_watched_.exchange(true); }
  /// Where requests wait for workers that others have started; null: the server starts its own.
  const std::shared_ptr<Gate>& gate() const { return gate_; }

  struct State {
    std::size_t processes = 0;  ///< Those that only stream not included.
    std::size_t idle = 0;
    std::uint64_t runs = 0;  ///< So far.
  };
  /// From any thread.
  State state();
  /// Requests that wait for a process.
  std::size_t waiting() const { return gate_ ? gate_->state().waiting : waiting_count_.load(); }
  /// It is needed no more: what runs comes to its end, and then no process is left. From any thread.
  void retire();
  bool is_retired() const { return is_retired_; }

 private:
  friend class KeptShare;
  friend class KeptTurn;

  /// True: one more process is counted, and may be started.
  bool try_count();
  std::vector<std::shared_ptr<KeptShare>> shares();

  const KeptOrder order_;
  std::string command_text_;
  const std::string folder_;
  KeptFiles files_;
  std::shared_ptr<Gate> gate_;
  std::atomic<bool> is_watched_{false};
  std::atomic<bool> is_retired_{false};
  std::atomic<std::size_t> idle_{0};
  std::atomic<std::size_t> waiting_count_{0};
  std::atomic<std::uint64_t> runs_{0};
  std::mutex mutex_;
  std::size_t processes_ = 0;  // Guarded by mutex_, as is all that follows, and what waits in the shares.
  std::vector<KeptShare*> shares_;
};

/// A place in the queue for a process. For the thread that it was made on, but for what a pool does.
class KeptTurn : public std::enable_shared_from_this<KeptTurn> {
 public:
  /// What is to be sent ahead where that may be; null: it waits for its turn. It stays until the place is given up or
  /// has come.
  using Request = std::function<std::string*()>;
  KeptTurn(std::shared_ptr<KeptShare> share, Request request);
  /// What was set aside and not taken goes back.
  ~KeptTurn();
  KeptTurn(const KeptTurn&) = delete;
  KeptTurn& operator=(const KeptTurn&) = delete;

  /// Calls `then` as soon as a process is set aside, before whoever waits goes on: it may take it at once, so that the
  /// process is not idle meanwhile.
  void when_come(std::function<void()> then) { when_come_ = std::move(then); }
  /// Waits for a process, until `time` at most. True: KeptShare::take() may be tried again, and one is set aside.
  asio::awaitable<bool> come_by(Clock::time_point time);
  /// Leaves the queue at once; come_by() returns.
  void give_up();

 private:
  friend class KeptShare;
  friend class KeptPool;

  void come(std::unique_ptr<KeptProcess> process);

  std::shared_ptr<KeptShare> share_;
  const Request request_;
  std::function<void()> when_come_;
  const Clock::time_point since_ = Clock::now();
  Event called_;
  bool has_come_ = false;
  bool may_start_ = false;                ///< It is counted already.
  std::unique_ptr<KeptProcess> process_;  ///< What is set aside; attached to its thread.
};

/// One thread's part of a pool. All its functions are called on that thread.
class KeptShare : public FastCgiPeers, public std::enable_shared_from_this<KeptShare> {
 public:
  static std::shared_ptr<KeptShare> make(const asio::any_io_executor& executor, const std::shared_ptr<KeptPool>& pool);
  ~KeptShare() override;
  KeptShare(const KeptShare&) = delete;
  KeptShare& operator=(const KeptShare&) = delete;

  const std::shared_ptr<KeptPool>& pool() const { return pool_; }
  /// The thread that is better asked, where there are fewer processes than threads; null: this one.
  const asio::any_io_executor* home() const { return home_ ? &*home_ : nullptr; }

  /// Nothing: all are at work, so that one has to be waited for.
  struct NoneFree {};
  /// A process for one run, idle until now or new. With a turn that has come, what was set aside for it.
  std::variant<std::shared_ptr<FastCgiPeer>, StartError, NoneFree> take(KeptTurn* turn = nullptr);
  std::shared_ptr<FastCgiPeer> take_free() override;
  /// A place at the end of the queue, if not more than `queue` requests wait already; else null. `request` as KeptTurn
  /// takes it.
  std::shared_ptr<KeptTurn> line_up(std::size_t queue, KeptTurn::Request request);

  /// Those that others have started; null: it has its own.
  Workers* workers() { return workers_ ? &*workers_ : nullptr; }

  /// Ends what is idle here. When the thread is about to end, what is given back later ends too.
  void end_idle();
  void close();
  /// True if nothing of it is left here.
  bool is_empty() const { return idle_.empty() && dying_.empty(); }

 private:
  friend class KeptPool;
  friend class KeptTurn;
  friend class PoolPeer;

  KeptShare(const asio::any_io_executor& executor, std::shared_ptr<KeptPool> pool);

  std::variant<std::unique_ptr<KeptProcess>, StartError> start();
  /// A place among the processes of the pool, which is given up unless a process is lent for it.
  struct Claim {
    ~Claim();
    KeptShare& share;
    bool is_held;
  };
  /// The first of those that are idle here that can be used, whose place is claimed then. Those that cannot are ended.
  std::unique_ptr<KeptProcess> take_idle(std::uint64_t generation, Claim& claim);
  /// True if it can take another run, of processes of that generation.
  static bool is_ready(KeptProcess& process, std::uint64_t generation);
  /// With the pool's lock held, and somebody waiting: the share whose first comes next, for `process` or, if that is
  /// null, for a new one.
  KeptShare& next_share(const KeptProcess* process);
  /// With that lock held: takes the first out of the queue.
  std::shared_ptr<KeptTurn> take_first();
  /// Sends the request of whoever comes next to `process`, which works at a short run, if that may be.
  void send_ahead(KeptProcess& process);
  /// The run of `process` lasts, so whoever's request was sent ahead to it waits for any of them again.
  void take_back_ahead(KeptProcess& process);
  /// The same without taking anything back: whoever it is for waits as if it had never been sent.
  void part_from_ahead(KeptProcess& process) noexcept;
  /// Nobody waits any more for what was sent ahead to `process`.
  void leave_ahead(KeptProcess& process);
  /// Gives `process` to whoever's request was sent ahead to it.
  void pass_on(std::unique_ptr<KeptProcess>&& process, FastCgiPeer::Left left);
  /// Has every thread look whether it has something for those that wait.
  void ask_all();
  /// What is in the way of those that wait: a process for the first, or leave to start one. Null: nobody, or nothing.
  std::shared_ptr<KeptTurn> next_turn(std::unique_ptr<KeptProcess>& process);
  std::shared_ptr<FastCgiPeer> lend(std::unique_ptr<KeptProcess>&& process);
  /// For lack of memory it ends, as if it had ended by itself.
  void give_back(std::unique_ptr<KeptProcess> process, FastCgiPeer::Left left) noexcept;
  void take_back(std::unique_ptr<KeptProcess>& process, FastCgiPeer::Left left);
  void only_streams(KeptProcess& process);
  /// Starts the one that will take the place of `process`, if that is soon.
  void prepare_successor(KeptProcess& process);
  bool is_worn_out(KeptProcess& process) const;
  /// True if `process` is to be replaced after so many runs, in `ahead` from now.
  bool is_due(const KeptProcess& process, std::uint64_t runs, Clock::duration ahead = Clock::duration::zero()) const;
  /// Puts it among those that are idle, for whoever comes or waits.
  void put_down(std::unique_ptr<KeptProcess>&& process);
  /// Hands what is idle here to those that wait.
  void serve_waiting();
  /// Calls the first of those that wait, for a process that may be started in the place of one.
  void uncount();
  void bury(std::unique_ptr<KeptProcess>&& process) noexcept;
  /// Ends it at once, for lack of memory.
  void drop(std::unique_ptr<KeptProcess>&& process) noexcept;
  void watch_dying();
  void watch_idle();

  asio::any_io_executor executor_;
  std::shared_ptr<KeptPool> pool_;
  std::optional<asio::any_io_executor> home_;
  std::optional<Workers> workers_;
  std::vector<std::unique_ptr<KeptProcess>> idle_;   ///< The last one that has worked comes last.
  std::vector<KeptProcess*> at_work_;                ///< Lent from here.
  std::deque<std::shared_ptr<KeptTurn>> waiting_;    ///< Of this thread; guarded by the pool's lock.
  std::unique_ptr<KeptProcess> successor_;           ///< Started, and not counted yet.
  std::vector<std::unique_ptr<KeptProcess>> dying_;  ///< Until they have been reaped.
  asio::steady_timer idle_timer_;
  asio::steady_timer successor_timer_;
  asio::steady_timer dying_timer_;
  bool is_idle_watched_ = false;
  bool is_dying_watched_ = false;
  bool is_closed_ = false;
};

/// The shares of one thread.
class KeptShares {
 public:
  explicit KeptShares(asio::any_io_executor executor) : executor_(std::move(executor)) {}

  std::shared_ptr<KeptShare> of(const std::shared_ptr<KeptPool>& pool);
  /// Drops what is left of pools that are needed no more.
  void tidy();
  /// The thread is about to end: what is idle ends now, and the rest when its run is over.
  void close();

 private:
  asio::any_io_executor executor_;
  std::vector<std::shared_ptr<KeptShare>> all_;
  bool is_closed_ = false;
};

/// The pools of a server. From any thread.
class KeptPools {
 public:
  /// Where sockets are for a moment, mode 0700: set before the first pool is made.
  void set_folder(std::string folder) { folder_ = std::move(folder); }
  /// The pool for `order`, which is made if there is none yet.
  std::shared_ptr<KeptPool> of(const KeptOrder& order);
  /// Retires the pools of which `is_wanted` is false.
  void keep_only(const std::function<bool(const KeptOrder&)>& is_wanted);
  std::vector<std::shared_ptr<KeptPool>> all();

 private:
  std::string folder_;
  std::mutex mutex_;
  std::vector<std::shared_ptr<KeptPool>> pools_;  // Guarded by mutex_.
};

}  // namespace porter::run
