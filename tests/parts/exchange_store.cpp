// The store of exchanges on its own: its bound, and what is found in it.
#include "server/record/exchange_store.hpp"

#include <catch2/catch.hpp>

#include "server/response/writer.hpp"

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

TEST_CASE("what is long is kept as it went, both ways, in memory that others had before") {
  Filled filled({true, 4 * 1024 * 1024, 300'000});
  struct Row {
    std::size_t request;
    std::size_t response;
  };
  // Around the size from which on it is long, and the one beyond which nothing is kept.
  const std::vector<Row> rows = {{10, 65'000},       {10, 65'536},      {80'000, 10},
                                 {300'000, 300'000}, {66'000, 300'001}, {300'500, 90'000}};
  const std::string request_head = "POST /fares HTTP/1.1\r\n\r\n";
  const std::string response_head = "HTTP/1.1 200 OK\r\n\r\n";
  for (int round = 0; round < 30; ++round) {
    const Row& row = rows[static_cast<std::size_t>(round) % rows.size()];
    const std::string request(row.request, static_cast<char>('a' + round % 26));
    const std::string response(row.response, static_cast<char>('A' + round % 26));
    auto recording = filled.shelf.begin(filled.exchange("/fares"), {&filled.ends, {}});
    const std::uint64_t number = recording->number();
    recording->received(request_head);
    recording->sent(response_head);
    for (std::size_t at = 0; at < std::max(request.size(), response.size()); at += 30'000) {
      if (at < request.size()) recording->received(std::string_view(request).substr(at, 30'000));
      if (at < response.size()) recording->sent(std::string_view(response).substr(at, 30'000));
    }
    const auto check = [&] {
      CAPTURE(round);
      const auto found = filled.store.find(number);
      REQUIRE(found.has_value());
      CHECK(found->request.bytes == request_head + request.substr(0, 300'000));
      CHECK(found->response.bytes == response_head + response.substr(0, 300'000));
      CHECK(found->request.length == request_head.size() + request.size());
      CHECK(found->response.length == response_head.size() + response.size());
    };
    check();
    recording.reset();
    check();
    CHECK(filled.store.bytes() <= 4 * 1024 * 1024);
  }
  CHECK_FALSE(filled.store.find(1).has_value());
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
  if (found) CHECK(found->response.length == 19 + 20 * piece.size());
  CHECK(filled.store.bytes() <= kMemory);
}

TEST_CASE("nothing is kept where the settings say so, and what is there goes when the room is taken away") {
  Filled filled({true, 4 * 1024 * 1024, 1024});
  for (int i = 0; i < 500; ++i) filled.add_slow(2000);
  CHECK(filled.store.find(400)->response.bytes.size() == 19 + 1024);
  CHECK(filled.store.find(400)->response.length == 19 + 2000);
  filled.store.set_bounds({false, 1024 * 1024, 1024});
  CHECK_FALSE(filled.shelf.keeps());
  CHECK(filled.store.bytes() <= 1024 * 1024);
}
