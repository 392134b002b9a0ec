// A pool against a plain model of it: whoever asks, ends, leaves, is killed or cannot be started, in random order, each
// request is served when the model says so, and in the order of arrival.
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/io_context.hpp>
#include <catch2/catch.hpp>
#include <csignal>
#include <deque>
#include <filesystem>
#include <map>
#include <random>
#include <set>

#include "core/fastcgi/records.hpp"
#include "run/pool/pool.hpp"
#include "support/support.hpp"

namespace asio = boost::asio;
namespace fs = std::filesystem;
using namespace porter;
using namespace porter::test;

namespace {

constexpr std::size_t kProcesses = 3;
constexpr std::size_t kQueue = 6;
constexpr std::uint64_t kRunsEach = 7;

enum class Stage { runs, waits, refused, failed, left, over };

/// What a pool does, in a few lines.
struct Model {
  std::map<int, Stage> requests;
  std::map<int, int> process_of;  ///< For those that run.
  std::map<int, std::uint64_t> runs_of;
  std::vector<int> idle;  ///< The one that has worked last comes last.
  std::deque<int> waiting;
  std::size_t processes = 0;
  bool can_start = true;
  int last_process = 0;

  void run(int request, int process) {
    requests[request] = Stage::runs;
    process_of[request] = process;
    ++runs_of[process];
  }
  void start_for(int request) {
    if (can_start) {
      ++processes;
      return run(request, ++last_process);
    }
    requests[request] = Stage::failed;
    if (processes > 0) return;
    for (const int other : waiting) requests[other] = Stage::failed;
    waiting.clear();
  }
  void ask(int request) {
    if (!idle.empty()) {
      run(request, idle.back());
      idle.pop_back();
    } else if (processes < kProcesses) {
      start_for(request);
    } else if (waiting.size() < kQueue) {
      requests[request] = Stage::waits;
      waiting.push_back(request);
    } else {
      requests[request] = Stage::refused;
    }
  }
  void process_is_gone() {
    --processes;
    if (waiting.empty()) return;
    const int next = waiting.front();
    waiting.pop_front();
    start_for(next);
  }
  void end(int request, bool with_its_process) {
    requests[request] = Stage::over;
    const int process = process_of[request];
    if (with_its_process || runs_of[process] >= kRunsEach) return process_is_gone();
    if (waiting.empty()) return idle.push_back(process);
    run(waiting.front(), process);
    waiting.pop_front();
  }
  void leave(int request) {
    requests[request] = Stage::left;
    std::erase(waiting, request);
  }
};

/// The same requests at a real pool, whose processes only last.
class Real {
 public:
  Real() {
    fs::copy_file("/bin/sleep", program_);
    run::PoolOrder order;
    order.is_php = true;  // What is sent to it is read by nobody, and that is never asked.
    order.program = program_;
    order.arguments = {program_, "1000"};
    order.folder = folder_.path();
    order.open_files = 64;
    order.processes = order.at_once = kProcesses;
    order.runs_each = kRunsEach;
    order.idle_time = std::chrono::hours(1);
    pool_ = std::make_shared<run::Pool>(order, folder_.path(), context_.get_executor(), memory_);
    share_ = std::make_shared<run::PoolAccess>(context_.get_executor(), pool_);
  }
  ~Real() {
    for (const auto& [request, place] : places_) place->give_up();
    settle();
    peers_.clear();
    pool_->retire();
    context_.restart();
    context_.run();
  }

  void set_can_start(bool can) { fs::rename(can ? program_ + ".away" : program_, can ? program_ : program_ + ".away"); }
  void ask(int request) {
    asio::co_spawn(context_, serve(request), [](const std::exception_ptr&) {});
  }
  void end(int request) {
    stages_[request] = Stage::over;
    const auto peer = std::move(peers_[request]);
    peer->give_back(run::FastCgiPeer::Reusable::yes);
  }
  void kill_with_process(int request) {
    const auto peer = peers_[request];
    peer->when_ended([this, request] {
      stages_[request] = Stage::over;
      const auto ended = std::move(peers_[request]);
      ended->when_ended(nullptr);
      ended->give_back(run::FastCgiPeer::Reusable::on_new_connection);
    });
    ::kill(peer->process()->id(), SIGKILL);
  }
  /// Of those that are idle, by the number that the model has for it.
  void kill_idle(int process) { ::kill(ids_[process], SIGKILL); }
  void leave(int request) { places_[request]->give_up(); }

  /// Lets everything happen that is due.
  void settle() {
    context_.restart();
    context_.poll();
  }
  bool is_as(const Model& model) {
    const auto state = pool_->state();
    if (state.processes != model.processes || state.idle != model.idle.size() || state.waiting != model.waiting.size())
      return false;
    if (stages_ != model.requests) return false;
    for (const auto& [request, process] : model.process_of)
      if (stages_[request] == Stage::runs) ids_[process] = peers_[request]->process()->id();
    return true;
  }
  std::string text() const {
    const auto state = pool_->state();
    std::string out = std::to_string(state.processes) + " processes, " + std::to_string(state.idle) + " idle, " +
                      std::to_string(state.waiting) + " waiting;";
    for (const auto& [request, stage] : stages_)
      if (stage != Stage::over) out += " " + std::to_string(request) + ":" + std::to_string(static_cast<int>(stage));
    return out;
  }

 private:
  asio::awaitable<void> serve(int request) {
    run::FastCgiRun::Order order;
    // Half of them have something that can be sent for them.
    if (request % 2 == 0) order.request = fastcgi::request_records({});
    std::shared_ptr<run::QueuePlace> place;
    for (;;) {
      auto taken = share_->take(place.get());
      places_.erase(request);
      if (auto* const peer = std::get_if<std::shared_ptr<run::FastCgiPeer>>(&taken)) {
        peers_[request] = std::move(*peer);
        stages_[request] = Stage::runs;
        co_return;
      }
      stages_[request] = Stage::failed;
      if (std::holds_alternative<run::StartError>(taken)) co_return;
      place = share_->line_up(order, kQueue);
      stages_[request] = place ? Stage::waits : Stage::refused;
      if (!place) co_return;
      places_[request] = place;
      auto coming = place->come_by(run::Clock::time_point::max());
      const bool has_come = co_await std::move(coming);
      if (has_come) place->give_back(order);
      if (!has_come) {
        stages_[request] = Stage::left;
        places_.erase(request);
        co_return;
      }
    }
  }

  TempFolder folder_;
  const std::string program_ = folder_.path() + "/interpreter";
  asio::io_context context_;
  const std::shared_ptr<run::PoolMemory> memory_ = std::make_shared<run::PoolMemory>();
  std::shared_ptr<run::Pool> pool_;
  std::shared_ptr<run::PoolAccess> share_;
  std::map<int, Stage> stages_;
  std::map<int, std::shared_ptr<run::FastCgiPeer>> peers_;
  std::map<int, std::shared_ptr<run::QueuePlace>> places_;
  std::map<int, pid_t> ids_;
};

std::vector<int> those_that(const Model& model, Stage stage) {
  std::vector<int> out;
  for (const auto& [request, its] : model.requests)
    if (its == stage) out.push_back(request);
  return out;
}

}  // namespace

TEST_CASE("a pool does what a plain model of it does, whatever happens in whatever order") {
  const unsigned seed = GENERATE(range(1U, 9U));
  CAPTURE(seed);
  std::mt19937 random(seed);
  const auto below = [&](std::size_t most) { return std::uniform_int_distribution<std::size_t>(0, most - 1)(random); };
  Model model;
  Real real;
  for (int step = 0; step < 150; ++step) {
    const auto running = those_that(model, Stage::runs);
    const auto waiting = those_that(model, Stage::waits);
    const std::size_t what = below(20);
    CAPTURE(step, what);
    if (what < 9 || (running.empty() && model.idle.empty())) {
      model.ask(step);
      real.ask(step);
    } else if (what < 14 && !running.empty()) {
      const int one = running[below(running.size())];
      model.end(one, false);
      real.end(one);
    } else if (what < 16 && !running.empty()) {
      const int one = running[below(running.size())];
      model.end(one, true);
      real.kill_with_process(one);
    } else if (what == 16 && !model.idle.empty()) {
      const std::size_t one = below(model.idle.size());
      real.kill_idle(model.idle[one]);
      model.idle.erase(model.idle.begin() + static_cast<std::ptrdiff_t>(one));
      model.process_is_gone();
    } else if (what < 19 && !waiting.empty()) {
      const int one = waiting[below(waiting.size())];
      model.leave(one);
      real.leave(one);
    } else {
      model.can_start = !model.can_start;
      real.set_can_start(model.can_start);
    }
    const bool is_as = eventually([&] {
      real.settle();
      return real.is_as(model);
    });
    CAPTURE(real.text());
    REQUIRE(is_as);
  }
}
