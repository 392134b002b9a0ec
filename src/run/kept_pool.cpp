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
      : share_(std::move(share)), process_(std::move(process)), begun_(process_->take_begun()) {}
  ~PoolPeer() override {
    if (process_) share_->give_back(std::move(process_), Left::spoilt);
  }

  asio::posix::stream_descriptor& connection() override { return process_->connection(); }
  std::uint16_t next_request() override { return was_sent_ahead() ? begun_ : process_->next_request(); }
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
  void skip_processor_time() override { process_->skip_processor_time(); }
  std::string take_error_text() override { return process_->take_error_text(); }
  void when_ended(std::function<void()> then) override { process_->ended = std::move(then); }
  void begins(bool is_short) override { process_->is_run_short = is_short; }
  void lasts() override {
    process_->is_run_short = false;
    share_->take_back_ahead(*process_);
  }
  bool was_sent_ahead() const override { return begun_ != 0; }
  std::string_view take_early_answer() override { return std::exchange(process_->early_answer, {}); }
  bool takes_more(std::string_view bytes) override;
  void only_streams() override { share_->only_streams(*process_); }
  void give_back(Left left) override { share_->give_back(std::exchange(process_, nullptr), left); }

 private:
  std::shared_ptr<KeptShare> share_;
  std::unique_ptr<KeptProcess> process_;
  const std::uint16_t begun_;  ///< The request of the run, if it was sent ahead; else 0.
};

bool PoolPeer::takes_more(std::string_view bytes) {
  if (!process_->has_ahead()) return false;
  auto& memory = process_->read_ahead;
  if (!memory) {
    // Something else in the old one is still being sent.
    memory = std::make_unique_for_overwrite<char[]>(kReadAhead);
    bytes.copy(memory.get(), bytes.size());
    bytes = {memory.get(), bytes.size()};
  }
  process_->early_answer = bytes;
  return true;
}

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
  for (const auto& share : shares()) asio::post(share->executor_, [share] { share->end_idle(); });
}

std::vector<std::shared_ptr<KeptShare>> KeptPool::shares() {
  const std::lock_guard lock(mutex_);
  std::vector<std::shared_ptr<KeptShare>> out;
  for (KeptShare* const one : shares_)
    if (auto share = one->weak_from_this().lock()) out.push_back(std::move(share));
  return out;
}

KeptTurn::KeptTurn(std::shared_ptr<KeptShare> share, Request request)
    : share_(std::move(share)), request_(std::move(request)), called_(share_->executor_) {}

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
  const auto self = shared_from_this();
  {
    const std::lock_guard lock(share_->pool_->mutex_);
    // Not there any more: what is set aside is on its way, and goes back as soon as nobody takes it.
    share_->pool_->waiting_count_ -= std::erase(share_->waiting_, self);
  }
  // What cannot be taken back any more ends with its process, as what has been begun does.
  for (KeptProcess* const process : share_->at_work_)
    if (process->ahead_for == self) share_->leave_ahead(*process);
  called_.set();
}

std::shared_ptr<KeptShare> KeptShare::make(const asio::any_io_executor& executor,
                                           const std::shared_ptr<KeptPool>& pool) {
  // The constructor is private, which std::make_shared cannot reach.
  std::shared_ptr<KeptShare> share(new KeptShare(executor, pool));
  const std::lock_guard lock(pool->mutex_);
  const auto& others = pool->shares_;
  const std::size_t most = pool->order_.processes;
  if (!share->workers_ && others.size() >= most) share->home_ = others[others.size() % most]->executor_;
  pool->shares_.push_back(share.get());
  return share;
}

KeptShare::~KeptShare() {
  const std::lock_guard lock(pool_->mutex_);
  std::erase(pool_->shares_, this);
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
  at_work_.reserve(at_work_.size() + 1);
  KeptProcess* const lent = process.get();
  auto peer = std::make_shared<PoolPeer>(shared_from_this(), std::move(process));
  at_work_.push_back(lent);
  ++lent->runs;
  pool_->runs_.fetch_add(1, std::memory_order_relaxed);
  return peer;
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

std::shared_ptr<FastCgiPeer> KeptShare::take_free() {
  auto taken = take();
  auto* const free = std::get_if<std::shared_ptr<FastCgiPeer>>(&taken);
  return free == nullptr ? nullptr : std::move(*free);
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
  // One that has the request already is asked for no more.
  const bool has_request = process && process->has_begun() && !process->has_ended();
  if (process && !has_request && !is_ready(*process, generation)) bury(std::move(process));
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

void KeptShare::ask_all() {
  for (const auto& share : pool_->shares()) asio::post(share->executor_, [share] { share->serve_waiting(); });
}

std::shared_ptr<KeptTurn> KeptShare::line_up(std::size_t queue, KeptTurn::Request request) {
  auto turn = std::make_shared<KeptTurn>(shared_from_this(), std::move(request));
  pool_->files_.generation();
  bool may_have_one = false;
  {
    const std::lock_guard lock(pool_->mutex_);
    may_have_one = pool_->idle_ > 0 || pool_->processes_ < pool_->order_.processes;
    if (pool_->waiting_count_ >= queue && !may_have_one) return nullptr;
    waiting_.push_back(turn);
    ++pool_->waiting_count_;
  }
  // Whoever puts one down from here on sees that somebody waits; what was put down before is asked for.
  if (may_have_one) {
    ask_all();
    return turn;
  }
  const auto free =
      std::find_if(at_work_.begin(), at_work_.end(), [](const auto* one) { return one->may_have_ahead(); });
  if (free != at_work_.end()) send_ahead(**free);
  return turn;
}

void KeptShare::send_ahead(KeptProcess& process) {
  if (!process.may_have_ahead() || pool_->waiting_count_ == 0) return;
  // Replaced it is between two runs, with nothing in its way.
  const std::uint64_t runs = process.runs + (process.has_begun() ? 1 : 0);
  const bool is_out_of_date = process.generation != pool_->files_.known_generation();
  if (is_out_of_date || is_due(process, runs + 1) || is_worn_out(process)) return;
  {
    const std::lock_guard lock(pool_->mutex_);
    if (pool_->waiting_count_ == 0 || &next_share(&process) != this) return;
    process.ahead_for = take_first();
  }
  std::string* const request = process.ahead_for->request_();
  if (request == nullptr || !process.send_ahead(*request)) part_from_ahead(process);
}

void KeptShare::part_from_ahead(KeptProcess& process) noexcept {
  const auto turn = std::exchange(process.ahead_for, nullptr);
  if (!turn) return;
  try {
    const std::lock_guard lock(pool_->mutex_);
    waiting_.push_front(turn);
    ++pool_->waiting_count_;
  } catch (const std::bad_alloc&) {
    turn->come(nullptr);  // It lines up anew.
  }
}

void KeptShare::leave_ahead(KeptProcess& process) {
  process.ahead_for.reset();
  process.take_back_ahead();
}

void KeptShare::take_back_ahead(KeptProcess& process) {
  // It may have come to its end in this moment, and the answer is on its way.
  if (!process.ahead_for || !process.take_back_ahead()) return;
  part_from_ahead(process);
  ask_all();
}

void KeptShare::pass_on(std::unique_ptr<KeptProcess>&& process, FastCgiPeer::Left left) {
  const bool can_go_on =
      left == FastCgiPeer::Left::clean && !process->has_begun() && !process->has_ended() && process->is_counted;
  if (!can_go_on || !process->ahead_for) {
    // Nobody wants what it has begun with, or nobody knows how far it is.
    part_from_ahead(*process);
    process->process().kill();
    const bool was_counted = process->is_counted;
    bury(std::move(process));
    if (was_counted) uncount();
    return;
  }
  const auto turn = std::exchange(process->ahead_for, nullptr);
  process->begin_ahead();
  // Before anything else, since it may have ended with that by now.
  send_ahead(*process);
  turn->come(std::move(process));
}

bool KeptShare::is_worn_out(KeptProcess& process) const {
  constexpr std::uint64_t kRunsBetweenLooks = 32;
  if (is_closed_ || pool_->is_retired_) return true;
  if (process.runs % kRunsBetweenLooks == 0 && process.is_near_its_limit()) process.is_full_grown = true;
  return process.is_full_grown || is_due(process, process.runs);
}

bool KeptShare::is_due(const KeptProcess& process, std::uint64_t runs, Clock::duration ahead) const {
  // To start another takes as long as a thousand short runs. Who asks for a number wants just that.
  constexpr std::chrono::seconds kLeastAge{10};
  const KeptOrder& order = pool_->order_;
  if (runs < order.runs_each) return false;
  return !order.may_last_longer || Clock::now() + ahead >= process.since + kLeastAge;
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
  part_from_ahead(*process);
  const bool was_counted = process->is_counted;
  process.reset();
  if (!was_counted) return;
  const std::lock_guard lock(pool_->mutex_);
  --pool_->processes_;
}

void KeptShare::take_back(std::unique_ptr<KeptProcess>& process, FastCgiPeer::Left left) {
  std::erase(at_work_, process.get());
  if (process->has_ahead() || process->has_begun()) {
    prepare_successor(*process);
    return pass_on(std::move(process), left);
  }
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

void KeptShare::prepare_successor(KeptProcess& process) {
  // Early enough for it to be ready when its turn comes, and only where that is soon.
  constexpr std::uint64_t kLeast = 100;
  const std::uint64_t each = pool_->order_.runs_each;
  const std::uint64_t early = each / 4;
  if (successor_ || process.has_successor || each < kLeast || process.runs + early < each) return;
  if (!is_due(process, process.runs + early, kSuccessorWaits / 2)) return;
  process.has_successor = true;
  if ((Clock::now() - process.since) * early / process.runs > kSuccessorWaits) return;
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
  process->ended = [this, which = process.get()] {
    const auto self = shared_from_this();
    const auto gone = take_out(idle_, which);
    if (!gone) return;
    --pool_->idle_;
    uncount();
  };
  idle_.reserve(idle_.size() + 1);
  idle_.push_back(std::move(process));
  ++pool_->idle_;
  watch_idle();
  if (pool_->waiting_count_ > 0) serve_waiting();
}

KeptShare& KeptShare::next_share(const KeptProcess* process) {
  KeptShare* first = nullptr;
  for (KeptShare* const share : pool_->shares_) {
    if (share->waiting_.empty()) continue;
    if (first == nullptr || share->waiting_.front()->since_ < first->waiting_.front()->since_) first = share;
  }
  if (waiting_.empty() || process == nullptr) return *first;
  // However many wait, a process that has just come stays for that long.
  const auto since = std::max(first->waiting_.front()->since_, process->home_since);
  return Clock::now() >= since + kFarWait ? *first : *this;
}

std::shared_ptr<KeptTurn> KeptShare::take_first() {
  auto first = std::move(waiting_.front());
  waiting_.pop_front();
  --pool_->waiting_count_;
  return first;
}

std::shared_ptr<KeptTurn> KeptShare::next_turn(std::unique_ptr<KeptProcess>& process) {
  const std::lock_guard lock(pool_->mutex_);
  // What is idle elsewhere comes first, and will be handed over there.
  const bool may_start = pool_->processes_ < pool_->order_.processes && pool_->idle_ == 0;
  if (pool_->waiting_count_ == 0 || (idle_.empty() && !may_start)) return nullptr;
  auto turn = next_share(idle_.empty() ? nullptr : idle_.back().get()).take_first();
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
      const KeptProcess* const given = process.get();
      turn->come(std::move(process));
      const auto at_work = std::find(at_work_.begin(), at_work_.end(), given);
      if (at_work != at_work_.end()) send_ahead(**at_work);
      continue;
    }
    if (process) process->detach();
    // The place ends on the thread that it is for, so nothing of it stays here.
    std::shared_ptr<std::unique_ptr<KeptProcess>> moved;
    try {
      moved = std::make_shared<std::unique_ptr<KeptProcess>>();
      *moved = std::move(process);
      asio::post(share->executor_, [share, turn = std::move(turn), moved] {
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
    dying->ended = [this, which = dying.get()] {
      const auto self = shared_from_this();
      const auto gone = take_out(dying_, which);
      if (gone && dying_.empty()) dying_timer_.cancel();
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
