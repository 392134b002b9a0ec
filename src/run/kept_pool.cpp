// Lending processes, taking them back, and ending them. See kept_pool.hpp.
#include "run/kept_pool.hpp"

#include <algorithm>
#include <boost/asio/post.hpp>
#include <exception>
#include <utility>

namespace porter::run {
namespace {

/// How long those at other threads may have waited while those at its own are served by a process: it costs as much as
/// several short runs to move it.
constexpr std::chrono::milliseconds kFarWait{10};
/// How long a process that was started in time waits for its turn.
constexpr std::chrono::seconds kSuccessorWaits{1};

/// Takes a process out of those in `all`; null: it is not there any more.
std::unique_ptr<KeptProcess> take_out(std::vector<std::unique_ptr<KeptProcess>>& all, const KeptProcess* which) {
  const auto found = std::find_if(all.begin(), all.end(), [which](const auto& one) { return one.get() == which; });
  if (found == all.end()) return nullptr;
  auto out = std::move(*found);
  all.erase(found);
  return out;
}

}  // namespace

/// A process while a run has it.
class PoolPeer : public FastCgiPeer {
 public:
  PoolPeer(std::shared_ptr<KeptShare> share, std::unique_ptr<KeptProcess> process)
      : share_(std::move(share)), process_(std::move(process)) {}
  ~PoolPeer() override {
    if (process_) share_->give_back(std::move(process_), Left::spoilt);
  }

  asio::posix::stream_descriptor& connection() override { return process_->connection(); }
  std::uint16_t next_request() override {
    // 0 is the number of what belongs to no request.
    if (++process_->last_request == 0) process_->last_request = 1;
    return process_->last_request;
  }
  std::unique_ptr<char[]>& read_ahead() override { return process_->read_ahead; }
  fastcgi::Connection then() const override { return fastcgi::Connection::stays; }
  std::string name() const override { return share_->pool()->order().program; }
  bool is_first_run() const override { return process_->runs == 1; }
  std::uint64_t number_of_run() const override { return process_->runs; }
  bool reads_all_input() const override { return share_->pool()->order().is_php; }
  bool ends_between_runs() const override { return share_->pool()->order().is_php; }
  Process* process() override { return &process_->process(); }
  void terminate() override { process_->process().kill(); }
  Clock::time_point look(Clock::time_point now) override { return process_->look(now); }
  std::chrono::nanoseconds processor_time() override { return process_->processor_time_since_last(); }
  std::string take_error_text() override { return process_->take_error_text(); }
  void when_ended(std::function<void()> then) override { process_->ended = std::move(then); }
  void only_streams() override { share_->only_streams(*process_); }
  void give_back(Left left) override { share_->give_back(std::exchange(process_, nullptr), left); }

 private:
  std::shared_ptr<KeptShare> share_;
  std::unique_ptr<KeptProcess> process_;
};

KeptPool::KeptPool(KeptOrder order, std::string folder) : order_(std::move(order)), folder_(std::move(folder)) {
  for (const std::string& word : order_.arguments) (command_text_ += word) += '\0';
  if (order_.workers.empty()) return;
  constexpr std::size_t kMost = 10000;
  gate_ = std::make_shared<Gate>(Gate::Bounds{order_.processes * order_.workers.size(), kMost, kMost});
}

KeptPool::State KeptPool::state() {
  const std::lock_guard lock(mutex_);
  return {processes_, idle_, runs_};
}

bool KeptPool::try_count() {
  const std::lock_guard lock(mutex_);
  if (processes_ >= order_.processes) return false;
  ++processes_;
  return true;
}

void KeptPool::retire() {
  is_retired_ = true;
  const std::lock_guard lock(mutex_);
  for (const auto& weak : shares_)
    if (const auto share = weak.lock()) asio::post(share->executor_, [share] { share->end_idle(); });
}

KeptTurn::KeptTurn(std::shared_ptr<KeptShare> share) : share_(std::move(share)), called_(share_->executor_) {}

KeptTurn::~KeptTurn() {
  try {
    if (process_) {
      share_->give_back(std::move(process_), FastCgiPeer::Left::clean);
    } else if (may_start_) {
      share_->uncount();
    }
  } catch (const std::exception&) {
    // For lack of memory: the process ends with the place.
  }
}

asio::awaitable<bool> KeptTurn::come_by(Clock::time_point time) {
  const auto self = shared_from_this();
  co_await called_.wait_until(time);
  if (!called_.is_set()) give_up();
  co_return has_come_;
}

void KeptTurn::give_up() {
  KeptPool& pool = *share_->pool_;
  {
    const std::lock_guard lock(pool.mutex_);
    const auto place = std::find(pool.waiting_.begin(), pool.waiting_.end(), shared_from_this());
    // Not there any more: what is set aside is on its way, and goes back as soon as nobody takes it.
    if (place != pool.waiting_.end()) {
      pool.waiting_.erase(place);
      pool.waiting_count_ = pool.waiting_.size();
    }
  }
  called_.set();
}

std::shared_ptr<KeptShare> KeptShare::make(const asio::any_io_executor& executor,
                                           const std::shared_ptr<KeptPool>& pool) {
  // The constructor is private, which std::make_shared cannot reach.
  std::shared_ptr<KeptShare> share(new KeptShare(executor, pool));
  const std::lock_guard lock(pool->mutex_);
  std::erase_if(pool->shares_, [](const auto& other) { return other.expired(); });
  pool->shares_.push_back(share);
  return share;
}

KeptShare::KeptShare(const asio::any_io_executor& executor, std::shared_ptr<KeptPool> pool)
    : executor_(executor),
      pool_(std::move(pool)),
      idle_timer_(executor_),
      successor_timer_(executor_),
      dying_timer_(executor_) {
  if (!pool_->order().workers.empty()) workers_.emplace(pool_->order().workers);
}

std::variant<std::unique_ptr<KeptProcess>, StartError> KeptShare::start() {
  const std::uint64_t generation = pool_->files_.generation();
  auto started = KeptProcess::start(pool_->order_, pool_->folder_);
  auto* const process = std::get_if<std::unique_ptr<KeptProcess>>(&started);
  if (process == nullptr) return started;
  (*process)->generation = generation;
  int error = (*process)->attach(executor_);
  if (error == 0) error = (*process)->connect();
  if (error != 0) return StartError{StartError::Step::resources, error};
  return started;
}

std::shared_ptr<FastCgiPeer> KeptShare::lend(std::unique_ptr<KeptProcess>&& process) {
  ++process->runs;
  pool_->runs_.fetch_add(1, std::memory_order_relaxed);
  return std::make_shared<PoolPeer>(shared_from_this(), std::move(process));
}

bool KeptShare::is_ready(KeptProcess& process, std::uint64_t generation) {
  return process.generation == generation && !process.has_ended() && process.connect() == 0;
}

std::unique_ptr<KeptProcess> KeptShare::take_idle(std::uint64_t generation, Claim& claim) {
  while (!idle_.empty()) {
    auto process = std::move(idle_.back());
    idle_.pop_back();
    --pool_->idle_;
    // Of both one place is enough.
    if (claim.is_held) uncount();
    claim.is_held = true;
    if (is_ready(*process, generation)) return process;
    bury(std::move(process));
  }
  return nullptr;
}

std::variant<std::shared_ptr<FastCgiPeer>, StartError, KeptShare::NoneFree> KeptShare::take(KeptTurn* turn) {
  Claim claim{*this, turn != nullptr && std::exchange(turn->may_start_, false)};
  std::unique_ptr<KeptProcess> process;
  if (turn != nullptr && turn->process_) {
    process = std::move(turn->process_);
    claim.is_held = true;
  }
  // One that is idle at another thread is here long before another would have started.
  const auto may_start = [&] { return claim.is_held || (pool_->idle_ == 0 && pool_->try_count()); };
  // Where much is asked for, all are at work.
  if (idle_.empty() && !process) {
    claim.is_held = may_start();
    if (!claim.is_held) return NoneFree{};
  }
  // Who waits has looked at the files when it lined up, and what frees a process is no time for it.
  const std::uint64_t generation = turn != nullptr ? pool_->files_.known_generation() : pool_->files_.generation();
  if (process && !is_ready(*process, generation)) bury(std::move(process));
  if (!process) process = take_idle(generation, claim);
  if (!process) {
    claim.is_held = may_start();
    if (!claim.is_held) return NoneFree{};
    if (successor_ && is_ready(*successor_, generation)) process = std::move(successor_);
  }
  if (!process) {
    auto started = start();
    if (const auto* const error = std::get_if<StartError>(&started)) return *error;
    process = std::get<std::unique_ptr<KeptProcess>>(std::move(started));
  }
  auto peer = lend(std::move(process));
  claim.is_held = false;
  return peer;
}

KeptShare::Claim::~Claim() {
  if (!is_held) return;
  try {
    share.uncount();
  } catch (const std::exception&) {
    // It is counted no more, but nobody was told.
  }
}

std::shared_ptr<KeptTurn> KeptShare::line_up(std::size_t queue) {
  auto turn = std::make_shared<KeptTurn>(shared_from_this());
  pool_->files_.generation();
  std::vector<std::shared_ptr<KeptShare>> others;
  {
    const std::lock_guard lock(pool_->mutex_);
    const bool may_have_one = pool_->idle_ > 0 || pool_->processes_ < pool_->order_.processes;
    if (pool_->waiting_.size() >= queue && !may_have_one) return nullptr;
    pool_->waiting_.push_back(turn);
    pool_->waiting_count_ = pool_->waiting_.size();
    // Whoever puts one down from here on sees that somebody waits; what was put down before is asked for.
    if (may_have_one)
      for (const auto& weak : pool_->shares_)
        if (auto share = weak.lock()) others.push_back(std::move(share));
  }
  for (const auto& share : others) asio::post(share->executor_, [share] { share->serve_waiting(); });
  return turn;
}

bool KeptShare::is_worn_out(const KeptProcess& process) const {
  constexpr std::uint64_t kRunsBetweenLooks = 32;
  if (is_closed_ || pool_->is_retired_) return true;
  if (process.runs % kRunsBetweenLooks == 0 && process.is_near_its_limit()) return true;
  return process.runs >= last_run();
}

std::uint64_t KeptShare::last_run() const {
  // To start another takes as long as many short runs. Who asks for fewer than that wants just so many.
  constexpr std::uint64_t kMany = 1000;
  constexpr std::uint64_t kPutOff = 10;
  const std::uint64_t each = pool_->order_.runs_each;
  return each >= kMany && pool_->waiting_count_ > 0 ? kPutOff * each : each;
}

void KeptShare::give_back(std::unique_ptr<KeptProcess> process, FastCgiPeer::Left left) noexcept {
  try {
    take_back(process, left);
  } catch (const std::exception&) {
    drop(std::move(process));
  }
}

void KeptShare::drop(std::unique_ptr<KeptProcess>&& process) noexcept {
  if (!process) return;
  const bool was_counted = process->is_counted;
  process.reset();
  if (!was_counted) return;
  const std::lock_guard lock(pool_->mutex_);
  --pool_->processes_;
}

void KeptShare::take_back(std::unique_ptr<KeptProcess>& process, FastCgiPeer::Left left) {
  if (left == FastCgiPeer::Left::spoilt) process->disconnect();
  if (!process->is_counted) {
    process->is_counted = !is_worn_out(*process) && !process->has_ended() && pool_->try_count();
    if (!process->is_counted) return bury(std::move(process));
  }
  if (process->has_ended() || is_worn_out(*process)) {
    bury(std::move(process));
    return uncount();
  }
  prepare_successor(*process);
  put_down(std::move(process));
}

void KeptShare::prepare_successor(const KeptProcess& process) {
  // Early enough for it to be ready when its turn comes, and only where that is soon.
  constexpr std::uint64_t kLeast = 100;
  const std::uint64_t each = pool_->order_.runs_each;
  if (successor_ || each < kLeast || process.runs != last_run() - each / 4) return;
  if ((Clock::now() - process.since) / 3 > kSuccessorWaits) return;
  auto started = start();
  auto* const next = std::get_if<std::unique_ptr<KeptProcess>>(&started);
  if (next == nullptr) return;
  successor_ = std::move(*next);
  // If nobody has needed it by then, it is one too many.
  successor_timer_.expires_after(kSuccessorWaits);
  successor_timer_.async_wait([weak = weak_from_this()](const boost::system::error_code& error) {
    const auto self = weak.lock();
    if (!error && self && self->successor_) self->bury(std::move(self->successor_));
  });
}

void KeptShare::put_down(std::unique_ptr<KeptProcess>&& process) {
  process->idle_since = Clock::now();
  // One that ends now ends between two requests: whoever wants one gets another.
  process->ended = [weak = weak_from_this(), which = process.get()] {
    const auto self = weak.lock();
    const auto gone = self ? take_out(self->idle_, which) : nullptr;
    if (!gone) return;
    --self->pool_->idle_;
    self->uncount();
  };
  idle_.reserve(idle_.size() + 1);
  idle_.push_back(std::move(process));
  ++pool_->idle_;
  watch_idle();
  if (pool_->waiting_count_ > 0) serve_waiting();
}

std::deque<std::shared_ptr<KeptTurn>>::iterator KeptShare::first_to_come() {
  auto& waiting = pool_->waiting_;
  if (Clock::now() >= waiting.front()->since_ + kFarWait) return waiting.begin();
  const auto near =
      std::find_if(waiting.begin(), waiting.end(), [this](const auto& turn) { return turn->share_.get() == this; });
  return near == waiting.end() ? waiting.begin() : near;
}

std::shared_ptr<KeptTurn> KeptShare::next_turn(std::unique_ptr<KeptProcess>& process) {
  const std::lock_guard lock(pool_->mutex_);
  // What is idle elsewhere comes first, and will be handed over there.
  const bool may_start = pool_->processes_ < pool_->order_.processes && pool_->idle_ == 0;
  if (pool_->waiting_.empty() || (idle_.empty() && !may_start)) return nullptr;
  const auto first = first_to_come();
  auto turn = std::move(*first);
  pool_->waiting_.erase(first);
  pool_->waiting_count_ = pool_->waiting_.size();
  if (!idle_.empty()) {
    process = std::move(idle_.back());
    idle_.pop_back();
    --pool_->idle_;
  } else {
    ++pool_->processes_;
    process = std::move(successor_);
    turn->may_start_ = !process;
  }
  return turn;
}

void KeptTurn::come(std::unique_ptr<KeptProcess> process) {
  process_ = std::move(process);
  has_come_ = true;
  try {
    if (const auto then = std::exchange(when_come_, nullptr)) then();
  } catch (const std::exception&) {
    // Whoever waits tries again.
  }
  called_.set();
}

void KeptShare::serve_waiting() {
  for (;;) {
    std::unique_ptr<KeptProcess> process;
    auto turn = next_turn(process);
    if (!turn) return;
    if (process) process->ended = nullptr;
    const auto share = turn->share_;
    if (share.get() == this) {
      turn->come(std::move(process));
      continue;
    }
    if (process) process->detach();
    // The place ends on the thread that it is for, so nothing of it stays here.
    std::shared_ptr<std::unique_ptr<KeptProcess>> moved;
    try {
      moved = std::make_shared<std::unique_ptr<KeptProcess>>();
      *moved = std::move(process);
      asio::post(share->executor_, [share, turn, moved] {
        auto& other = *moved;
        if (other && other->attach(share->executor_) != 0) {
          // It cannot be watched here, so another one is started in its place.
          other.reset();
          turn->may_start_ = true;
        }
        turn->come(std::move(other));
      });
    } catch (const std::bad_alloc&) {
      drop(std::move(moved ? *moved : process));
      throw;
    }
  }
}

void KeptShare::uncount() {
  {
    const std::lock_guard lock(pool_->mutex_);
    --pool_->processes_;
  }
  if (pool_->waiting_count_ > 0) serve_waiting();
}

void KeptShare::only_streams(KeptProcess& process) {
  if (!process.is_counted) return;
  process.is_counted = false;
  uncount();
}

void KeptShare::bury(std::unique_ptr<KeptProcess>&& process) noexcept {
  auto dying = std::move(process);
  if (!dying || dying->has_ended()) return;
  dying->terminate();
  dying->disconnect();
  try {
    dying->ended = [weak = weak_from_this(), which = dying.get()] {
      const auto self = weak.lock();
      const auto gone = self ? take_out(self->dying_, which) : nullptr;
      if (gone && self->dying_.empty()) self->dying_timer_.cancel();
    };
    dying_.reserve(dying_.size() + 1);
    dying_.push_back(std::move(dying));
    watch_dying();
  } catch (const std::exception&) {
    // For lack of memory it is not waited for, but ended.
  }
}

void KeptShare::watch_dying() {
  auto next = Clock::time_point::max();
  const auto now = Clock::now();
  for (const auto& process : dying_) next = std::min(next, process->look(now));
  if (is_dying_watched_ || next == Clock::time_point::max()) return;
  is_dying_watched_ = true;
  dying_timer_.expires_at(next);
  dying_timer_.async_wait([self = shared_from_this()](const boost::system::error_code&) {
    self->is_dying_watched_ = false;
    self->watch_dying();
  });
}

void KeptShare::watch_idle() {
  if (is_idle_watched_ || is_closed_) return;
  const auto now = Clock::now();
  auto next = Clock::time_point::max();
  std::vector<std::unique_ptr<KeptProcess>> tired;
  for (auto& process : idle_) {
    const auto until = process->idle_since + pool_->order_.idle_time;
    if (until <= now) {
      tired.push_back(std::move(process));
    } else {
      next = std::min(next, until);
    }
  }
  std::erase(idle_, nullptr);
  for (auto& process : tired) {
    --pool_->idle_;
    bury(std::move(process));
    uncount();
  }
  if (successor_ && !tired.empty()) bury(std::move(successor_));
  if (next == Clock::time_point::max()) return;
  is_idle_watched_ = true;
  idle_timer_.expires_at(next);
  idle_timer_.async_wait([weak = weak_from_this()](const boost::system::error_code& error) {
    const auto self = weak.lock();
    if (!self) return;
    self->is_idle_watched_ = false;
    if (!error) self->watch_idle();
  });
}

void KeptShare::end_idle() {
  auto idle = std::exchange(idle_, {});
  for (auto& process : idle) {
    --pool_->idle_;
    bury(std::move(process));
    uncount();
  }
  if (successor_) bury(std::move(successor_));
  idle_timer_.cancel();
  successor_timer_.cancel();
}

void KeptShare::close() {
  is_closed_ = true;
  end_idle();
}

std::shared_ptr<KeptShare> KeptShares::of(const std::shared_ptr<KeptPool>& pool) {
  for (const auto& share : all_)
    if (share->pool() == pool) return share;
  auto share = KeptShare::make(executor_, pool);
  if (is_closed_) share->close();
  return all_.emplace_back(std::move(share));
}

void KeptShares::tidy() {
  std::erase_if(all_, [](const auto& share) { return share->pool()->is_retired() && share->is_empty(); });
}

void KeptShares::close() {
  is_closed_ = true;
  for (const auto& share : all_) share->close();
}

std::shared_ptr<KeptPool> KeptPools::of(const KeptOrder& order) {
  const std::lock_guard lock(mutex_);
  for (const auto& pool : pools_)
    if (!pool->is_retired() && pool->order() == order) return pool;
  return pools_.emplace_back(std::make_shared<KeptPool>(order, folder_));
}

void KeptPools::keep_only(const std::function<bool(const KeptOrder&)>& is_wanted) {
  const std::lock_guard lock(mutex_);
  for (const auto& pool : pools_)
    if (!is_wanted(pool->order())) pool->retire();
  std::erase_if(pools_, [](const auto& pool) { return pool->is_retired(); });
}

std::vector<std::shared_ptr<KeptPool>> KeptPools::all() {
  const std::lock_guard lock(mutex_);
  return pools_;
}

}  // namespace porter::run
