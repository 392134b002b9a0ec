// The store of exchanges on its own: its bound, and what is found in it.
#include "server/record/exchange_store.hpp"

#include <catch2/catch.hpp>

#include "server/answer/writer.hpp"

using namespace porter;
using namespace porter::server;

namespace {

/// A store with one worker's part, and exchanges to put there.
struct Filled {
  explicit Filled(ExchangeKeeping bounds) { store.set_bounds(bounds); }

  Exchange exchange(const std::string& target) const {
    Exchange out;
    out.client = "127.0.0.1";
    out.method = "GET";
    out.target = target;
    out.status = 200;
    out.by = ByFile{};
    out.begun = std::chrono::steady_clock::now();
    return out;
  }
  std::uint64_t add_ready(std::size_t size) {
    const std::string body(size, 'b');
    Exchange facts = exchange("/tides");
    return shelf.add(facts, {&ends, {}}, "GET /tides HTTP/1.1\r\n\r\n",
                     Outgoing({}, "HTTP/1.1 200 OK\r\n", "", "\r\n", body));
  }
  std::uint64_t add_slow(std::size_t size) {
    const auto recording = shelf.begin(exchange("/fares"), {&ends, {}});
    recording->received("GET /fares HTTP/1.1\r\n\r\n");
    const std::string body(size, 's');
    recording->sent("HTTP/1.1 200 OK\r\n\r\n");
    for (std::size_t at = 0; at < size; at += 10'000) recording->sent(std::string_view(body).substr(at, 10'000));
    return recording->number();
  }

  ExchangeStore store;
  Shelf& shelf = store.add_shelf();
  Ends ends{"127.0.0.1", 40'000, "127.0.0.1", 8080, true};
};

}  // namespace

TEST_CASE("whatever is kept, the store stays within its bound, and the last of all is there") {
  constexpr std::uint64_t kMemory = 2 * 1024 * 1024;
  Filled filled({true, kMemory, 1024 * 1024});
  std::uint64_t last = 0;
  for (std::size_t i = 0; i < 3000; ++i) {
    last = i % 3 == 0 ? filled.add_slow(i % 100 == 0 ? 600'000 : 700) : filled.add_ready(i % 50 == 1 ? 100'000 : 1024);
    CHECK(filled.store.bytes() <= kMemory);
    CHECK(filled.store.find(last).has_value());
  }
  CHECK(last == 3000);
  CHECK_FALSE(filled.store.find(1).has_value());
  const ExchangeStore::Page page = filled.store.list({}, 5);
  REQUIRE(page.exchanges.size() == 5);
  CHECK(page.exchanges.back().number == last);
  CHECK(page.gone > 0);
  CHECK(page.lost == 0);
}

TEST_CASE("many in progress at once share the room") {
  constexpr std::uint64_t kMemory = 2 * 1024 * 1024;
  Filled filled({true, kMemory, 1024 * 1024});
  const std::string piece(50'000, 'p');
  std::vector<std::unique_ptr<Recording>> open;
  for (int i = 0; i < 20; ++i) {
    open.push_back(filled.shelf.begin(filled.exchange("/stream"), {&filled.ends, {}}));
    open.back()->sent("HTTP/1.1 200 OK\r\n\r\n");
  }
  for (int round = 0; round < 20; ++round)
    for (const auto& recording : open) recording->sent(piece);
  CHECK(filled.store.bytes() <= kMemory * 11 / 10);
  CHECK(filled.store.list({}, 100).exchanges.empty());  // None has lasted long enough to be told of.
  const std::uint64_t number = open.front()->number();
  open.clear();
  const auto found = filled.store.find(number);
  if (found) CHECK(found->answer.length == 19 + 20 * piece.size());
  CHECK(filled.store.bytes() <= kMemory);
}

TEST_CASE("nothing is kept where the settings say so, and what is there goes when the room is taken away") {
  Filled filled({true, 4 * 1024 * 1024, 1024});
  for (int i = 0; i < 500; ++i) filled.add_slow(2000);
  CHECK(filled.store.find(400)->answer.bytes.size() == 19 + 1024);
  CHECK(filled.store.find(400)->answer.length == 19 + 2000);
  filled.store.set_bounds({false, 1024 * 1024, 1024});
  CHECK_FALSE(filled.shelf.keeps());
  CHECK(filled.store.bytes() <= 1024 * 1024);
}
