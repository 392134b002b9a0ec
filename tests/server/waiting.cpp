// Scripts that wait are not scripts that work: they keep nobody else from beginning.
#include <atomic>
#include <catch2/catch.hpp>
#include <chrono>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;

namespace {

std::string site(bool is_persistent) {
  return "addresses = [PORT]\n[exchanges]\nkeep = false\n[site.quay]\ndocument-root = \"pages\"\n"
         "hosts = [\"localhost\"]\n[interpreter.PHP]\npersistent = " +
         std::string(is_persistent ? "true" : "false") + "\n";
}

double seconds_since(std::chrono::steady_clock::time_point begun) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
}

}  // namespace

TEST_CASE("pages that fetch another page of their own site do not wait for each other") {
  const bool is_persistent = GENERATE(true, false);
  CAPTURE(is_persistent);
  TempFolder folder;
  folder.write("pages/tide.php", "<?php echo '07:40';");
  folder.write("pages/front.php",
               "<?php echo 'tide ', file_get_contents('http://127.0.0.1:' . $_SERVER['SERVER_PORT'] . '/tide.php');");
  SettledServer server(folder, site(is_persistent));
  constexpr int kPages = 16;
  std::vector<std::thread> clients;
  std::atomic<int> answered{0};
  for (int i = 0; i < kPages; ++i)
    clients.emplace_back([&] { answered += get(server.port(), "/front.php").body == "tide 07:40" ? 1 : 0; });
  for (std::thread& client : clients) client.join();
  CHECK(answered == kPages);
}

TEST_CASE("scripts that sleep leave the site to others") {
  const bool is_persistent = GENERATE(true, false);
  CAPTURE(is_persistent);
  TempFolder folder;
  folder.write("pages/tide.php", "<?php echo '07:40';");
  folder.write("pages/poll.php", "<?php sleep(30); echo 'nothing new';");
  SettledServer server(folder, site(is_persistent));
  std::vector<std::unique_ptr<Connection>> polls;
  for (int i = 0; i < 20; ++i) {
    polls.push_back(std::make_unique<Connection>(server.port()));
    polls.back()->send("GET /poll.php HTTP/1.1\r\nHost: localhost\r\n\r\n");
  }
  const auto begun = std::chrono::steady_clock::now();
  CHECK(get(server.port(), "/tide.php").body == "07:40");
  // Far less than a poll, and than the time for which a request waits.
  CHECK(seconds_since(begun) < 10);
}

TEST_CASE("persistent processes together stay within their memory, and who comes waits for it") {
  TempFolder folder;
  // It says how many were at work beside it.
  folder.write("pages/large.php",
               "<?php $mark = 'busy-' . getmypid(); touch($mark); $all = str_repeat('t', 40 << 20); usleep(200000); "
               "echo count(glob('busy-*')); unlink($mark);");
  SettledServer server(folder, site(true) + "[limits]\nruns = 8\npool-memory = \"100 MiB\"\n");
  const auto most_of = [&](int count) {
    std::vector<std::thread> clients;
    std::atomic<int> most{0};
    std::atomic<int> answered{0};
    for (int i = 0; i < count; ++i)
      clients.emplace_back([&] {
        const Response response = get(server.port(), "/large.php");
        answered += response.status == 200 ? 1 : 0;
        const int beside = std::atoi(response.body.c_str());
        for (int known = most; known < beside && !most.compare_exchange_weak(known, beside);) {
        }
      });
    for (std::thread& client : clients) client.join();
    CHECK(answered == count);
    return most.load();
  };
  // How large the pages are is not known before the first of them.
  CHECK(most_of(1) == 1);
  CHECK(most_of(8) <= 2);
  CHECK(server.stop() == 0);
}
