// The quick way to a script that is kept: for a plain GET of a path that was judged a moment ago, the request is handed
// over before anything else is made ready for it, and mostly its answer comes whole.
//
// It answers only what the full way (server/answer/script.hpp) would answer with the same bytes. Where an answer is not
// whole at once, or there is anything to be said of it, the full way goes on with the run as it is.
#pragma once

#include <boost/asio/awaitable.hpp>
#include <memory>
#include <optional>
#include <string>

#include "run/event.hpp"
#include "server/answer/file_cache.hpp"
#include "server/answer/kept_start.hpp"
#include "server/answer/writer.hpp"

namespace porter::server {

/// On the thread of its turn, which has it.
class QuickRun : public std::enable_shared_from_this<QuickRun> {
 public:
  /// Begins the run of `script` for the request of `turn`, whose site is known; null: it has to go the full way.
  static std::shared_ptr<QuickRun> begin(Turn& turn, std::shared_ptr<const CachedFile> script);
  using Asked = CachedScript::Asked;
  QuickRun(Turn& turn, std::shared_ptr<const CachedFile> file, std::shared_ptr<const Asked> asked,
           run::KeptShare& share);
  ~QuickRun();
  QuickRun(const QuickRun&) = delete;
  QuickRun& operator=(const QuickRun&) = delete;

  /// Waits until it has been answered, or has to go the full way.
  asio::awaitable<void> settled() { return settled_.wait(); }
  /// The answer, as long as this lasts; nullopt: the full way goes on from here.
  std::optional<ReadyAnswer> take_answer();
  /// It goes the full way, soon.
  void leave();
  /// Called from time to time: what waits for long goes the full way.
  void look(run::Clock::time_point now);

  // For the full way.

  KeptStart& start() { return start_; }
  /// What is run. Its views last as long as the turn and this.
  run::ScriptOrder order() const;
  const CachedScript& script() const { return *file_->script; }

 private:
  /// As take_answer(), but that nothing is learnt of the script.
  std::optional<ReadyAnswer> read_answer();
  /// Waits for the answer of the run that has begun.
  void await_answer();

  Turn& turn_;
  const std::shared_ptr<const CachedFile> file_;
  const std::shared_ptr<const Asked> asked_;
  const run::Clock::time_point since_ = run::Clock::now();
  KeptStart start_;
  run::Call settled_;
  std::string text_;  ///< Of the answer's head.
};

}  // namespace porter::server
