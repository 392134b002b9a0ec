// Helpers: work away from an event loop, given up when it takes too long.
#include "run/helpers.hpp"

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/io_context.hpp>
#include <catch2/catch.hpp>
#include <future>
#include <stdexcept>

using namespace porter;
using namespace std::chrono_literals;
namespace asio = boost::asio;

namespace {

/// What a coroutine gives, run to its end.
template <typename Result>
Result result_of(asio::io_context& context, asio::awaitable<Result> coroutine) {
  std::optional<Result> out;
  std::exception_ptr failure;
  asio::co_spawn(context, std::move(coroutine), [&](const std::exception_ptr& error, Result result) {
    failure = error;
    out = std::move(result);
  });
  context.restart();
  context.run();
  if (failure) std::rethrow_exception(failure);
  return std::move(*out);
}

}  // namespace

TEST_CASE("work is done, gives what it gives, and throws what it throws") {
  asio::io_context context(1);
  run::Helpers helpers(2);
  CHECK(result_of(context, helpers.run([] { return 7; })) == 7);
  CHECK(result_of(context, helpers.run_within(10s, [] { return 7; })) == 7);
  CHECK_THROWS_AS(result_of(context, helpers.run([]() -> int { throw std::runtime_error("fog"); })),
                  std::runtime_error);
  CHECK_THROWS_AS(result_of(context, helpers.run_within(10s, []() -> int { throw std::runtime_error("fog"); })),
                  std::runtime_error);
}

TEST_CASE("work that hangs is given up, and holds up no other work, however often") {
  asio::io_context context(1);
  run::Helpers helpers(1);
  std::promise<void> gate;
  const std::shared_future<void> opened = gate.get_future().share();
  const auto hang = [opened] {
    opened.wait();
    return 1;
  };
  for (int i = 0; i < 5; ++i) {
    CHECK_FALSE(result_of(context, helpers.run_within(1ms, hang)));
    CHECK(result_of(context, helpers.run([] { return 7; })) == 7);
  }
  // Those that come back in the end are not missed.
  gate.set_value();
  for (int i = 0; i < 5; ++i) CHECK(result_of(context, helpers.run_within(10s, [] { return 7; })) == 7);
}

TEST_CASE("who waits for work may stop to") {
  asio::io_context context(1);
  run::Helpers helpers(1);
  std::promise<void> gate;
  const auto news = std::make_shared<run::Event>(context.get_executor());
  asio::post(context, [news] { news->set(); });
  const auto opened = gate.get_future().share();
  const auto result = result_of(context, helpers.run_within(
                                             1h,
                                             [opened] {
                                               opened.wait();
                                               return 1;
                                             },
                                             news));
  CHECK_FALSE(result);
  gate.set_value();
}
