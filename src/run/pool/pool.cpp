// Lending processes, taking them back, and ending them. See pool.hpp.
#include "run/pool/pool.hpp"

#include <linux/sockios.h>
#include <sys/ioctl.h>
#include <sys/socket.h>

#include <algorithm>
#include <boost/asio/posix/stream_descriptor.hpp>
#include <boost/asio/post.hpp>
#include <cerrno>
#include <ctime>
#include <exception>
#include <thread>
#include <utility>

#include "core/files/state.hpp"
#include "run/proc.hpp"

namespace porter::run {
namespace {

/// Mostly the system tells of their end before.
constexpr std::chrono::milliseconds kLookAtDying{100};
constexpr std::chrono::seconds kIdleOfExtra{10};

/// Takes a process out of those in `all`. False: it is not among them.
bool take_out(std::vector<std::shared_ptr<PooledProcess>>& all, const std::shared_ptr<PooledProcess>& process) {
  const auto found = std::find(all.begin(), all.end(), process);
  if (found == all.end()) return false;
  all.erase(found);
  return true;
}

}  // namespace

/// A process while a run has it.
class PoolPeer : public FastCgiPeer, public std::enable_shared_from_this<PoolPeer> {
 public:
  PoolPeer(std::shared_ptr<Pool> pool, std::shared_ptr<PooledProcess> process)
      : pool_(std::move(pool)), process_(std::move(process)) {}
  ~PoolPeer() override {
    if (process_) pool_->give_back(std::move(process_), Reusable::on_new_connection);
  }

  asio::posix::stream_descriptor& connection() override { return process_->connection(); }
  std::uint16_t next_request() override { return process_->next_request(); }
  std::shared_ptr<char[]>& read_ahead() override { return process_->read_ahead; }
  fastcgi::Connection then() const override { return fastcgi::Connection::stays; }
  std::string name() const override { return pool_->order().program; }
  std::string fresh_setting() const override { return pool_->order().fresh_setting; }
  bool is_first_run() const override { return process_->runs == 1; }
  std::uint64_t number_of_run() const override { return process_->runs; }
  bool reads_all_input() const override { return pool_->order().is_php; }
  bool ends_between_runs() const override { return pool_->order().is_php; }
  Process* process() override { return &process_->process(); }
  bool is_own_word(pid_t sender, Clock::duration age) override {
    return process_->traces().is_own_word(sender, age, process_->runs == 1);
  }
  void terminate() override { process_->process().kill(); }
  Clock::time_point look(Clock::time_point now) override {
    // A run that lasts may fill its error stream, and would wait for a reader. And the word that it has ended may have
    // come while nobody had it.
    pause_ = process_->read_streams() ? kShortRun : std::min<Clock::duration>(2 * pause_, kLongestPause);
    const auto self = shared_from_this();
    process_has_ended();
    return process_ ? std::min(process_->look(now), now + pause_) : Clock::time_point::max();
  }
  std::chrono::nanoseconds processor_time() override { return process_->processor_time_since_last(); }
  void skip_processor_time() override { process_->skip_processor_time(); }
  bool knock() override {
    process_->disconnect();
    if (process_->has_ended() || process_->connect() != 0) return false;
    const std::string question = fastcgi::question();
    return ::send(connection().native_handle(), question.data(), question.size(), MSG_NOSIGNAL) ==
           static_cast<ssize_t>(question.size());
  }
  std::vector<std::string> what_it_left() override {
    process_->left = process_->traces().left(pool_->order().leaves_running);
    std::vector<std::string> out;
    for (const pid_t id : *process_->left)
      if (std::string name = process_text(id); !name.empty()) out.push_back(std::move(name));
    return out;
  }
  std::string take_error_text() override { return process_->take_error_text(); }
  std::string take_output_text() override { return process_->take_output_text(); }
  void note_first_word() override {
    int left = 0;
    if (!pool_->order().is_php)
      process_->reads_before_it_answers = ::ioctl(connection().native_handle(), SIOCOUTQ, &left) == 0 && left == 0;
  }
  bool reads_before_it_answers() const override { return process_->reads_before_it_answers; }
  void when_ended(std::function<void()> then) override { ended_ = std::move(then); }
  void only_streams() override { pool_->only_streams(*process_); }
  void give_back(Reusable reusable) override { pool_->give_back(std::exchange(process_, nullptr), reusable); }

  /// On the run's thread: the process may have ended. False: the run is over with it.
  bool process_has_ended() {
    if (!process_) return false;
    const bool is_news = !process_->has_ended() && process_->process().reap();
    // The run is over then, and lets go of this.
    if (const auto then = ended_; is_news && then) then();
    return true;
  }

 private:
  static constexpr std::chrono::milliseconds kLongestPause{400};

  std::shared_ptr<Pool> pool_;
  std::shared_ptr<PooledProcess> process_;
  std::function<void()> ended_;
  Clock::duration pause_ = kShortRun;  ///< Until it is looked at again.
};

Pool::Pool(PoolOrder order, std::string folder, asio::any_io_executor keeper, std::shared_ptr<PoolMemory> memory,
           LateWords late_words)
    : order_(std::move(order)),
      folder_(std::move(folder)),
      keeper_(std::move(keeper)),
      memory_(std::move(memory)),
      late_words_(std::move(late_words)),
      idle_alarm_(keeper_),
      dying_alarm_(keeper_) {
  at_work_.reserve(2 * order_.processes);
  for (const std::string& word : order_.arguments) (command_text_ += word) += '\0';
  if (order_.external.empty()) return;
  constexpr std::size_t kMost = 10000;
  gate_ = std::make_shared<Gate>(Gate::Bounds{order_.at_once * order_.external.size(), 0, kMost, order_.queue});
}

void Pool::note_script(const std::string& path, const struct stat& info) {
  constexpr std::size_t kMostScripts = 10'000;
  const std::lock_guard lock(mutex_);
  if (scripts_.size() >= kMostScripts) scripts_.clear();
  struct stat& last = scripts_[path];
  // PHP looks at the time of the source alone.
  const bool has_same_time =
      last.st_ino != 0 && last.st_mtim.tv_sec == info.st_mtim.tv_sec && last.st_mtim.tv_nsec == info.st_mtim.tv_nsec;
  if (has_same_time && !files::same_state(last, info)) files_.begin_generation();
  last = info;
}

Pool::State Pool::state() {
  if (gate_) return {0, 0, gate_->state().waiting, runs_};
  const std::lock_guard lock(mutex_);
  return {processes_, idle_.size(), waiting_.size(), runs_};
}

std::variant<std::shared_ptr<PooledProcess>, StartError> Pool::start(const asio::any_io_executor& executor) {
  if (!has_descriptors_for_one()) return StartError{StartError::Step::resources, EMFILE};
  memory_->make_room(Clock::now());
  const std::uint64_t generation = files_.generation();
  auto started = PooledProcess::start(order_, folder_);
  if (const auto* const error = std::get_if<StartError>(&started)) return *error;
  std::shared_ptr<PooledProcess> process = std::get<std::unique_ptr<PooledProcess>>(std::move(started));
  process->generation = generation;
  process->count_in(memory_);
  files::Descriptor end = process->process().watch();
  if (!end.is_open()) return StartError{StartError::Step::resources, errno};
  process->attach(executor);
  if (const int error = process->connect()) return StartError{StartError::Step::resources, error};
  asio::post(keeper_, [self = shared_from_this(), process, end = std::make_shared<files::Descriptor>(std::move(end))] {
    self->watch_end(process, std::move(*end));
  });
  return process;
}

void Pool::tell_late_words(PooledProcess& process) {
  // Before its first run it may tell why there will be none.
  if (process.runs == 0 || !late_words_) return;
  if (!process.read_streams() && process.has_nothing_to_tell()) return;
  process.take_output_text();
  if (const std::string text = process.take_error_text(); !text.empty())
    late_words_(order_, process.process().id(), text);
}

std::shared_ptr<FastCgiPeer> Pool::lend(const asio::any_io_executor& executor, std::shared_ptr<PooledProcess> process) {
  process->attach(executor);
  process->left.reset();
  auto peer = std::make_shared<PoolPeer>(shared_from_this(), process);
  ++process->runs;
  runs_.fetch_add(1, std::memory_order_relaxed);
  const std::lock_guard lock(mutex_);
  // One that is not among them is only taken for one that computes.
  if (at_work_.size() < at_work_.capacity()) at_work_.push_back(process.get());
  process->user = peer;
  return peer;
}

std::variant<std::shared_ptr<FastCgiPeer>, StartError, Pool::NoneFree> Pool::take(const asio::any_io_executor& executor,
                                                                                  QueuePlace* place) {
  if (place != nullptr && place->failure_) return *place->failure_;
  if (place == nullptr && !idle_longest()) memory_->make_room(Clock::now());
  std::vector<std::shared_ptr<PooledProcess>> useless;
  std::size_t places = 0;  // That are counted and have no process.
  std::shared_ptr<PooledProcess> process = find_ready(executor, place, useless, places);
  for (auto& one : useless) terminate_and_reap(std::move(one));
  if (!process && places == 0) return NoneFree{};
  // One of them is for the process that is started.
  for (std::size_t spare = process ? places : places - 1; spare > 0; --spare) give_up_place();
  try {
    if (!process) {
      auto started = start(executor);
      if (const auto* const error = std::get_if<StartError>(&started)) {
        start_has_failed(*error);
        return *error;
      }
      process = std::get<std::shared_ptr<PooledProcess>>(std::move(started));
    }
    return lend(executor, process);
  } catch (const std::exception&) {
    if (process) terminate_and_reap(std::move(process));
    give_up_place();
    throw;
  }
}

std::shared_ptr<PooledProcess> Pool::find_ready(const asio::any_io_executor& executor, QueuePlace* place,
                                                std::vector<std::shared_ptr<PooledProcess>>& useless,
                                                std::size_t& places) {
  std::shared_ptr<PooledProcess> process;
  if (place != nullptr) {
    process = std::exchange(place->process_, nullptr);
    places += std::exchange(place->may_start_, false) ? 1 : 0;
    if (process && place->sent_) return process;
  }
  const std::uint64_t generation = files_.generation();
  for (;;) {
    if (!process) {
      const std::lock_guard lock(mutex_);
      if (!idle_.empty()) {
        process = std::move(idle_.back());
        idle_.pop_back();
      } else if (places == 0 && may_start() && !is_retired_) {
        ++processes_;
        memory_->expect();
        ++places;
      }
    }
    if (!process) return nullptr;
    process->attach(executor);
    const bool is_fit = process->generation == generation && !process->has_ended() && !has_altered_limits(*process) &&
                        process->connect() == 0;
    if (is_fit) {
      tell_late_words(*process);
      return process;
    }
    useless.push_back(std::exchange(process, nullptr));
    ++places;
  }
}

void Pool::start_has_failed(const StartError& error) {
  std::deque<std::shared_ptr<QueuePlace>> failed;
  {
    const std::lock_guard lock(mutex_);
    --processes_;
    // With none left that would come to them, all that wait have waited for this one.
    if (processes_ == 0) failed.swap(waiting_);
    for (const auto& place : failed) place->failure_ = error;
  }
  for (const auto& place : failed) call(place);
}

std::shared_ptr<QueuePlace> Pool::line_up(const asio::any_io_executor& executor, FastCgiRun::Order& order,
                                          std::size_t queue) {
  auto place = std::make_shared<QueuePlace>(shared_from_this(), executor, std::move(order.request));
  memory_->make_room(Clock::now());
  {
    const std::lock_guard lock(mutex_);
    if (!idle_.empty()) {
      place->process_ = std::move(idle_.back());
      idle_.pop_back();
    } else if (may_start()) {
      ++processes_;
      memory_->expect();
      place->may_start_ = true;
    } else {
      if (waiting_.size() >= queue) return nullptr;
      waiting_.push_back(place);
      return place;
    }
  }
  // Not from here: whoever lines up is not waiting yet.
  asio::post(executor, [place] { place->come(); });
  return place;
}

void Pool::call(const std::shared_ptr<QueuePlace>& place) noexcept {
  if (!place) return;
  for (;;) {
    try {
      asio::post(place->executor_, [place] { place->come(); });
      return;
    } catch (const std::bad_alloc&) {
      // It was taken out of the queue, and nobody else will call it.
      std::this_thread::yield();
    }
  }
}

void Pool::tell(const std::shared_ptr<QueuePlace>& place) noexcept {
  if (!begin(place)) return call(place);
  Lock lock(mutex_);
  place->is_begun_ = true;
  const bool is_given_up = place->is_given_up_;
  lock.unlock();
  if (is_given_up) call(place);
}

bool Pool::begin(const std::shared_ptr<QueuePlace>& place) noexcept {
  PooledProcess& process = *place->process_;
  try {
    // Who has waited for longer may have left, which only its own thread can tell.
    if (place->request_.empty() || Clock::now() - place->since_ >= kShortRun ||
        process.generation != files_.generation())
      return false;
    if (process.has_ended() || !process.is_connected()) return false;
    process.attach(place->executor_);
    tell_late_words(process);
    const std::uint16_t request = process.next_request();
    fastcgi::address(place->request_, request, fastcgi::Connection::stays);
    const ssize_t sent =
        ::send(process.connection().native_handle(), place->request_.data(), place->request_.size(), MSG_NOSIGNAL);
    if (sent <= 0) return false;
    place->sent_ = {request, static_cast<std::size_t>(sent)};
    process.connection().async_wait(asio::posix::stream_descriptor::wait_read,
                                    [place](const boost::system::error_code&) { place->come(); });
    return true;
  } catch (const std::exception&) {
    return false;  // What was sent is known, and the thread will be told of it.
  }
}

void Pool::discard(std::shared_ptr<PooledProcess> process) noexcept {
  const bool is_counted = process->is_counted;
  terminate_and_reap(std::move(process));
  if (is_counted) give_up_place();
}

bool Pool::is_worn_out(PooledProcess& process) const noexcept {
  constexpr std::uint64_t kRunsBetweenLooks = 32;
  if (is_retired_ || process.runs >= order_.runs_each) return true;
  try {
    return process.runs % kRunsBetweenLooks == 0 && process.is_near_its_limit();
  } catch (const std::bad_alloc&) {
    return true;
  }
}

bool Pool::was_altered(PooledProcess& process, bool leaves_running) noexcept {
  try {
    if (!process.left) process.left = process.traces().left(leaves_running);
    if (!process.left->empty() || process.traces().has_altered_priority()) return true;
  } catch (const std::bad_alloc&) {
    return true;
  }
  return has_altered_limits(process);
}

bool Pool::has_altered_limits(PooledProcess& process) noexcept {
  try {
    return process.traces().has_altered_limits(process.runs);
  } catch (const std::bad_alloc&) {
    return true;
  }
}

std::shared_ptr<QueuePlace> Pool::set_aside(std::shared_ptr<PooledProcess> process) {
  process->user.reset();
  if (waiting_.empty()) {
    process->idle_since = Clock::now();
    idle_.push_back(std::move(process));
    return nullptr;
  }
  auto place = std::move(waiting_.front());
  waiting_.pop_front();
  place->process_ = std::move(process);
  return place;
}

std::shared_ptr<QueuePlace> Pool::uncount() {
  if (waiting_.empty() || processes_ > order_.processes) {
    --processes_;
    return nullptr;
  }
  auto place = std::move(waiting_.front());
  waiting_.pop_front();
  place->may_start_ = true;
  return place;
}

void Pool::give_up_place() noexcept {
  Lock lock(mutex_);
  const auto place = uncount();
  lock.unlock();
  call(place);
}

void Pool::watch_mapped_files(const PooledProcess& process) noexcept {
  try {
    const auto age = std::chrono::duration_cast<std::chrono::seconds>(Clock::now() - process.begun());
    files_.watch(mapped_programs(process.id()), std::time(nullptr) - age.count());
  } catch (const std::bad_alloc&) {
    // Their changes are seen after the next start.
  }
}

void Pool::give_back(std::shared_ptr<PooledProcess> process, FastCgiPeer::Reusable reusable) noexcept {
  if (reusable == FastCgiPeer::Reusable::on_new_connection) process->disconnect();
  const bool is_altered =
      reusable == FastCgiPeer::Reusable::no || (!process->has_ended() && was_altered(*process, order_.leaves_running));
  // With what it has left running, and at once: that may take part in the next run.
  if (is_altered) process->process().kill();
  if (process->runs == 1 && !order_.is_php) watch_mapped_files(*process);
  const bool is_done_with = is_altered || process->has_ended() || is_worn_out(*process);
  std::shared_ptr<QueuePlace> place;
  bool is_to_be_watched = false;
  bool stays = false;
  try {
    const std::lock_guard lock(mutex_);
    std::erase(at_work_, process.get());
    idle_.reserve(idle_.size() + 1);
    if (!process->is_counted && !is_done_with && processes_ < order_.processes) {
      ++processes_;
      process->is_counted = true;
    }
    stays = process->is_counted && !is_done_with;
    if (stays) {
      place = set_aside(process);
      is_to_be_watched = !place && !std::exchange(is_idle_watched_, true);
    } else if (process->is_counted) {
      place = uncount();
    }
  } catch (const std::bad_alloc&) {
    stays = false;
    if (process->is_counted) give_up_place();
  }
  if (place && stays) {
    tell(place);
  } else {
    call(place);
  }
  if (!stays) terminate_and_reap(process);
  memory_->look(Clock::now());
  if (!is_to_be_watched) return;
  try {
    asio::post(keeper_, [self = shared_from_this()] { self->look_at_idle(); });
  } catch (const std::bad_alloc&) {
    const std::lock_guard lock(mutex_);
    is_idle_watched_ = false;  // The next one that becomes idle has it looked at.
  }
}

void Pool::only_streams(PooledProcess& process) {
  std::shared_ptr<QueuePlace> place;
  {
    const std::lock_guard lock(mutex_);
    if (!std::exchange(process.is_counted, false)) return;
    place = uncount();
  }
  call(place);
}

void Pool::terminate_and_reap(std::shared_ptr<PooledProcess> process) noexcept {
  if (process->has_ended()) return;
  process->disconnect();
  process->terminate();
  try {
    {
      const std::lock_guard lock(mutex_);
      process->user.reset();
      dying_.push_back(process);
    }
    asio::post(keeper_, [self = shared_from_this()] { self->look_at_dying(); });
  } catch (const std::bad_alloc&) {
    // For lack of memory it is not waited for, but ended.
    process->process().kill();
  }
}

void Pool::watch_end(const std::shared_ptr<PooledProcess>& process, files::Descriptor end) {
  const auto watched = std::make_shared<asio::posix::stream_descriptor>(keeper_, end.release());
  watched->async_wait(
      asio::posix::stream_descriptor::wait_read,
      [self = shared_from_this(), watched, weak = std::weak_ptr(process)](const boost::system::error_code&) {
        if (const auto ended = weak.lock()) self->process_ended(ended);
      });
}

void Pool::process_ended(const std::shared_ptr<PooledProcess>& process) {
  std::shared_ptr<QueuePlace> place;
  bool has_died = false;
  bool was_idle = false;
  {
    const std::lock_guard lock(mutex_);
    if (const auto peer = process->user.lock()) {
      // It is its run's to see to; if that is over by then, it is looked at once more.
      asio::post(process->connection().get_executor(), [self = shared_from_this(), peer, process] {
        if (!peer->process_has_ended()) asio::post(self->keeper_, [self, process] { self->process_ended(process); });
      });
      return;
    }
    if (take_out(dying_, process)) {
      process->process().reap();
      has_died = true;
    } else if (take_out(idle_, process)) {
      // Between two requests: whoever wants one gets another.
      process->process().reap();
      was_idle = true;
      place = uncount();
    }
  }
  call(place);
  // Nobody else has it any more.
  if (has_died || was_idle) tell_late_words(*process);
  // What it has left running has lost its parent now.
  if (has_died) end_orphans();
}

void Pool::look_at_dying() {
  auto next = Clock::time_point::max();
  const auto now = Clock::now();
  const std::lock_guard lock(mutex_);
  std::erase_if(dying_, [&](const std::shared_ptr<PooledProcess>& process) {
    if (process->process().reap()) return true;
    next = std::min({next, process->look(now), now + kLookAtDying});
    return process->has_ended();
  });
  // An alarm that is set keeps the pool, and the keeper from its end.
  dying_alarm_.cancel();
  if (next != Clock::time_point::max()) dying_alarm_.set(next, [self = shared_from_this()] { self->look_at_dying(); });
}

void Pool::look_at_idle() {
  std::vector<std::shared_ptr<PooledProcess>> tired;
  const auto now = Clock::now();
  auto next = Clock::time_point::max();
  // With the lock held. Those beyond the usual number were begun for a crowd that has gone.
  const auto idle_time = [this] {
    const bool has_extra = processes_ > order_.at_once && order_.at_once < order_.processes;
    return has_extra ? std::min(order_.idle_time, kIdleOfExtra) : order_.idle_time;
  };
  {
    const std::lock_guard lock(mutex_);
    for (auto& process : idle_) {
      const auto until = process->idle_since + idle_time();
      if (until <= now || is_retired_) {
        tired.push_back(std::move(process));
        --processes_;
      } else {
        next = std::min(next, until);
      }
    }
    std::erase(idle_, nullptr);
    // Those that are at work now are idle for long enough then at the earliest.
    if (processes_ > 0 && !is_retired_) next = std::min(next, now + idle_time());
    is_idle_watched_ = next != Clock::time_point::max();
  }
  for (auto& process : tired) terminate_and_reap(std::move(process));
  idle_alarm_.cancel();
  if (next == Clock::time_point::max()) return;
  if (idle_alarm_.set(next, [self = shared_from_this()] { self->look_at_idle(); })) return;
  const std::lock_guard lock(mutex_);
  is_idle_watched_ = false;
}

void Pool::look_at_work(Clock::time_point now) noexcept {
  constexpr std::chrono::milliseconds kBetweenLooks{20};
  std::vector<std::shared_ptr<QueuePlace>> called;
  if (!memory_->has_room()) memory_->make_room(now);
  try {
    const std::lock_guard lock(mutex_);
    // Who waits for memory alone has no other to call it.
    const bool may_be_more =
        processes_ == 0 || (processes_ < order_.processes && order_.at_once < order_.processes && !is_retired_);
    if (!may_be_more || waiting_.empty() || now - looked_at_work_ < kBetweenLooks) return;
    looked_at_work_ = now;
    waiting_at_work_ = 0;
    for (PooledProcess* const process : at_work_)
      if (process->is_counted && process->work.is_waiting(process->process().id(), now)) ++waiting_at_work_;
    called.reserve(waiting_.size());
    while (!waiting_.empty() && may_start()) {
      called.push_back(std::move(waiting_.front()));
      waiting_.pop_front();
      called.back()->may_start_ = true;
      ++processes_;
      memory_->expect();
    }
  } catch (const std::bad_alloc&) {
    // Whoever has been let in is called; the rest is seen to by the next look.
  }
  for (const auto& place : called) call(place);
}

void Pool::retire() {
  is_retired_ = true;
  asio::post(keeper_, [self = shared_from_this()] { self->look_at_idle(); });
}

std::optional<Clock::time_point> Pool::idle_longest() {
  const std::lock_guard lock(mutex_);
  if (idle_.empty()) return std::nullopt;
  return idle_.front()->idle_since;
}

void Pool::end_longest_idle() {
  std::shared_ptr<PooledProcess> process;
  {
    const std::lock_guard lock(mutex_);
    if (idle_.empty()) return;
    process = std::move(idle_.front());
    idle_.erase(idle_.begin());
    --processes_;
  }
  terminate_and_reap(std::move(process));
}

}  // namespace porter::run
