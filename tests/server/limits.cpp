// What a client may take up, and what happens beyond it.
#include <sys/stat.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <chrono>
#include <fstream>
#include <memory>
#include <thread>

#include "support/support.hpp"

using namespace porter::test;

TEST_CASE("heads and bodies beyond their limits have statuses of their own") {
  TempFolder folder;
  folder.write("cgi-bin/x", "#!/bin/sh\nprintf 'Content-Type: a/b\\n\\n'; wc -c\n", 0755);
  Server server(folder.path(), {"--limit", "body=1000"});
  const auto status = [&](const std::string& bytes) {
    Connection connection(server.port());
    connection.send(bytes);
    const Response response = connection.receive();
    CHECK(connection.is_closed());
    return response.status;
  };
  const std::string host = " HTTP/1.1\r\nHost: localhost\r\n";
  CHECK(status("GET /" + std::string(9000, 'a') + host + "\r\n") == 414);
  CHECK(status("GET /" + std::string(9000, 'a')) == 414);
  CHECK(status("GET /" + host + "A: " + std::string(40000, 'a')) == 431);
  std::string fields;
  for (int i = 0; i < 110; ++i) fields += "A" + std::to_string(i) + ": b\r\n";
  CHECK(status("GET /" + host + fields + "\r\n") == 431);
  CHECK(status("POST /cgi-bin/x" + host + "Content-Length: 1001\r\n\r\n") == 413);
  CHECK(status("POST /cgi-bin/x" + host + "Transfer-Encoding: chunked\r\n\r\n500\r\n" + std::string(0x500, 'a')) ==
        413);
  CHECK(server.stop() == 0);
}

TEST_CASE("slow clients are told, or closed without a word if they never asked") {
  TempFolder folder;
  folder.write("cgi-bin/x", "#!/bin/sh\ncat >/dev/null; printf 'Content-Type: a/b\\n\\n'\n", 0755);
  Server server(folder.path(), {"--limit", "head-time=1", "--limit", "idle-time=1", "--limit", "body-pause=1"});
  // Made before it is asked: that may take longer than a connection may be idle.
  const std::string much =
      "POST /cgi-bin/x HTTP/1.1\r\nHost: localhost\r\nContent-Length: 9000000\r\n\r\n" + numbered(3'000'000);
  Connection half(server.port());
  half.send("GET / HTTP/1.1\r\n");
  Connection silent(server.port());
  Connection body(server.port());
  body.send("POST /cgi-bin/x HTTP/1.1\r\nHost: localhost\r\nContent-Length: 10\r\n\r\nabc");
  // Of so much what comes is passed on without being looked at.
  Connection large(server.port());
  large.send(much);
  CHECK(half.receive().status == 408);
  CHECK(silent.is_closed());
  CHECK(body.receive().status == 408);
  CHECK(body.is_closed());
  CHECK(large.receive().status == 408);
  CHECK(large.is_closed());
  Connection kept(server.port());
  kept.send("GET / HTTP/1.1\r\nHost: localhost\r\n\r\n");
  CHECK(kept.receive().status == 200);
  CHECK(kept.is_closed());
  CHECK(server.stop() == 0);
}

TEST_CASE("a script that writes nothing in its time is stopped and explained") {
  TempFolder folder;
  folder.write("cgi-bin/x", "#!/bin/sh\nsleep 300\n", 0755);
  Server server(folder.path(), {"--limit", "first-byte=1"});
  const Response response = get(server.port(), "/cgi-bin/x");
  CHECK(response.status == 504);
  CHECK(response.body.find("script-too-slow") != std::string::npos);
  CHECK(eventually([&] { return children_of(server.program().id()).empty(); }));
  CHECK(server.stop() == 0);
}

TEST_CASE("a script that fills its error stream without end holds nobody up, and is stopped in its time") {
  TempFolder folder;
  folder.write("cgi-bin/flood", "#!/bin/sh\nexec yes 'the tide is out' >&2\n", 0755);
  folder.write("a.html", "still here");
  Server server(folder.path(), {"--threads", "1", "--limit", "first-byte=4"});
  Connection flood(server.port());
  flood.send("GET /cgi-bin/flood HTTP/1.1\r\nHost: localhost\r\n\r\n");
  REQUIRE(eventually([&] { return !children_of(server.program().id()).empty(); }));
  // It is answered while the other still has its time.
  CHECK(get(server.port(), "/a.html").body == "still here");
  CHECK_FALSE(flood.is_closed(std::chrono::milliseconds(0)));
  CHECK(flood.receive().status == 504);
  CHECK(eventually([&] { return children_of(server.program().id()).empty(); }));
  CHECK(server.stop() == 0);
}

TEST_CASE("connections beyond the limit get 503 with Retry-After") {
  TempFolder folder;
  Server server(folder.path(), {"--limit", "connections=2"});
  auto first = std::make_unique<Connection>(server.port());
  Connection second(server.port());
  first->send("GET / HTTP/1.1\r\nHost: localhost\r\n\r\n");
  second.send("GET / HTTP/1.1\r\nHost: localhost\r\n\r\n");
  CHECK(first->receive().status == 200);
  CHECK(second.receive().status == 200);
  Connection third(server.port());
  const Response refused = third.receive();
  CHECK(refused.status == 503);
  CHECK_FALSE(refused.field("retry-after").empty());
  first.reset();
  CHECK(eventually([&] {
    Connection again(server.port());
    again.send("GET / HTTP/1.1\r\nHost: localhost\r\n\r\n");
    return again.receive().status == 200;
  }));
  CHECK(server.stop() == 0);
}

TEST_CASE("hundreds of clients that send a byte a second hold nobody up") {
  TempFolder folder;
  folder.write("a.html", "A");
  Server server(folder.path());
  std::vector<std::unique_ptr<Connection>> slow;
  for (int i = 0; i < 300; ++i) slow.push_back(std::make_unique<Connection>(server.port()));
  const std::string bytes = "GET /a.html HTTP/1.1\r\n";
  for (std::size_t second = 0; second < 3; ++second) {
    for (auto& connection : slow) connection->send(bytes.substr(second, 1));
    const auto begun = std::chrono::steady_clock::now();
    for (int i = 0; i < 20; ++i) CHECK(get(server.port(), "/a.html").body == "A");
    CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(20));
    pause_ms(1000);
  }
  for (auto& connection : slow) {
    connection->send(bytes.substr(3) + "Host: localhost\r\n\r\n");
    CHECK(connection->receive().body == "A");
  }
  CHECK(server.stop() == 0);
}

TEST_CASE("ranges reach any place of a sparse file of six GiB") {
  TempFolder folder;
  const std::string path = folder.write("huge.bin", "start");
  constexpr off_t kSize = 6LL * 1024 * 1024 * 1024;
  REQUIRE(::truncate(path.c_str(), kSize) == 0);
  {
    std::fstream file(path, std::ios::in | std::ios::out | std::ios::binary);
    file.seekp(5'000'000'000);
    file << "middle";
  }
  Server server(folder.path());
  CHECK(get(server.port(), "/huge.bin", "Range: bytes=5000000000-5000000005\r\n").body == "middle");
  const Response tail = get(server.port(), "/huge.bin", "Range: bytes=-3\r\n");
  CHECK(tail.field("content-range") == "bytes 6442450941-6442450943/6442450944");
  CHECK(request(server.port(), "HEAD", "/huge.bin").field("content-length") == "6442450944");
  const Response parts = get(server.port(), "/huge.bin", "Range: bytes=0-4,5000000000-5000000005\r\n");
  CHECK(parts.body.find("start") != std::string::npos);
  CHECK(parts.body.find("middle") != std::string::npos);
  CHECK(parts.whole);
  CHECK(server.stop() == 0);
}

TEST_CASE("a file that gets shorter while it is sent cuts the connection") {
  TempFolder folder;
  const std::string path = folder.write("large.bin", std::string(64'000'000, 'l'));
  Server server(folder.path());
  Connection connection(server.port());
  connection.send("GET /large.bin HTTP/1.1\r\nHost: localhost\r\n\r\n");
  pause_ms(200);
  REQUIRE(::truncate(path.c_str(), 1000) == 0);
  const Response response = connection.receive();
  CHECK(response.status == 200);
  CHECK_FALSE(response.whole);
  CHECK(connection.is_closed());
  CHECK(server.stop() == 0);
}

TEST_CASE("clients that leave at any moment leave nothing behind") {
  TempFolder folder;
  folder.write("large.bin", std::string(8'000'000, 'l'));
  folder.write("cgi-bin/x", "#!/bin/sh\nprintf 'Content-Type: a/b\\n\\n'\nhead -c 5000000 /dev/zero\nsleep 1\n", 0755);
  Server server(folder.path());
  get(server.port(), "/large.bin");
  const std::size_t before = open_descriptors(server.program().id());
  const std::string requests[] = {
      "GET /large.bin HTTP/1.1\r\nHost: localhost\r\n\r\n", "GET /cgi-bin/x HTTP/1.1\r\nHost: localhost\r\n\r\n",
      "POST /cgi-bin/x HTTP/1.1\r\nHost: localhost\r\nContent-Length: 100\r\n\r\nabc",
      "POST /cgi-bin/x HTTP/1.1\r\nHost: localhost\r\nTransfer-Encoding: chunked\r\n\r\n9\r\nabc"};
  for (const std::string& whole : requests)
    for (std::size_t part = 1; part <= 4; ++part) {
      Connection connection(server.port());
      connection.send(whole.substr(0, whole.size() * part / 4));
      pause_ms(20);
    }
  CHECK(eventually([&] {
    return open_descriptors(server.program().id()) <= before + 1 && children_of(server.program().id()).empty();
  }));
  CHECK(get(server.port(), "/large.bin").whole);
  CHECK(server.stop() == 0);
}

TEST_CASE("large bodies pass through in both directions in constant memory") {
  constexpr std::size_t kPiece = 1024 * 1024;
  constexpr std::size_t kPieces = 256;
  TempFolder folder;
  folder.write("cgi-bin/count", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n'; wc -c\n", 0755);
  folder.write(
      "cgi-bin/zeros",
      "#!/bin/sh\nprintf 'Content-Type: a/b\\n\\n'; head -c " + std::to_string(kPieces * kPiece) + " /dev/zero\n",
      0755);
  Server server(folder.path(), {"--limit", "body=" + std::to_string(kPieces * kPiece)});
  const std::string piece(kPiece, 'g');
  const std::string upload = "POST /cgi-bin/count HTTP/1.1\r\nHost: localhost\r\n";
  const long before = resident_kib(server.program().id());
  Connection with_length(server.port());
  with_length.send(upload + "Content-Length: " + std::to_string(kPieces * kPiece) + "\r\n\r\n");
  for (std::size_t i = 0; i < kPieces; ++i) REQUIRE(with_length.send(piece));
  CHECK(std::stoul(with_length.receive().body) == kPieces * kPiece);
  Connection chunked(server.port());
  chunked.send(upload + "Transfer-Encoding: chunked\r\n\r\n");
  for (std::size_t i = 0; i < kPieces; ++i) {
    REQUIRE(chunked.send("100000\r\n"));
    REQUIRE(chunked.send(piece + "\r\n"));
  }
  chunked.send("0\r\n\r\n");
  CHECK(std::stoul(chunked.receive().body) == kPieces * kPiece);
  CHECK(get(server.port(), "/cgi-bin/zeros").body.size() == kPieces * kPiece);
  CHECK(resident_kib(server.program().id()) - before < 64 * 1024);
  CHECK(server.stop() == 0);
}

TEST_CASE("a script that does not read its input, or closes its output early, is answered all the same") {
  TempFolder folder;
  const std::string mark = folder.path() + "/done";
  const std::string go_on = folder.path() + "/go-on";
  folder.write("cgi-bin/deaf", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nno need'\n", 0755);
  folder.write("cgi-bin/first",
               "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nfirst '; head -c 3 >/dev/null; wc -c\n", 0755);
  folder.write("cgi-bin/early",
               "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nall'; exec >&-; while [ ! -e " + go_on +
                   " ]; do sleep 0.05; done; echo > " + mark + "\n",
               0755);
  Server server(folder.path());
  CHECK(request(server.port(), "POST", "/cgi-bin/deaf", "", std::string(2'000'000, 'g')).body == "no need");
  CHECK(request(server.port(), "POST", "/cgi-bin/first", "", std::string(5, 'g')).body.starts_with("first "));
  CHECK(get(server.port(), "/cgi-bin/early").body == "all");
  folder.write("go-on", "");
  CHECK(eventually([&] { return ::access(mark.c_str(), F_OK) == 0; }));
  CHECK(server.stop() == 0);
}

TEST_CASE("a response after which the rest of a body is not read says that the connection ends") {
  TempFolder folder;
  folder.write("a.txt", "x");
  folder.write("cgi-bin/part",
               "#!/bin/sh\nhead -c 1000 >/dev/null; exec <&-; sleep 0.5; printf 'Content-Type: a/b\\n\\nenough'\n",
               0755);
  folder.write("cgi-bin/failing", "#!/bin/sh\nhead -c 1000 >/dev/null; exit 3\n", 0755);
  Server server(folder.path(), {"--limit", "body=100000000"});
  const std::string head = "POST /a.txt HTTP/1.1\r\nHost: localhost\r\n";
  for (const std::string more :
       {"Expect: 100-continue\r\nContent-Length: 5\r\n\r\n", "Content-Length: 90000000\r\n\r\n",
        "Expect: 100-continue\r\nTransfer-Encoding: chunked\r\n\r\n"}) {
    CAPTURE(more);
    Connection connection(server.port());
    connection.send(head + more);
    const Response response = connection.receive();
    CHECK(response.status == 405);
    CHECK(response.field("connection") == "close");
    CHECK(connection.is_closed());
  }
  for (const std::string name : {"part", "failing"}) {
    CAPTURE(name);
    Connection connection(server.port());
    connection.send("POST /cgi-bin/" + name + " HTTP/1.1\r\nHost: localhost\r\nContent-Length: 90000000\r\n\r\n" +
                    std::string(100'000, 'g'));
    const Response response = connection.receive();
    CHECK(response.status == (name == "part" ? 200 : 500));
    CHECK(response.field("connection") == "close");
    CHECK(connection.is_closed());
  }
  Connection kept(server.port());
  kept.send(head + "Content-Length: 5\r\n\r\nhello");
  CHECK(kept.receive().field("connection").empty());
  kept.send("GET /a.txt HTTP/1.1\r\nHost: localhost\r\n\r\n");
  CHECK(kept.receive().body == "x");
  CHECK(server.stop() == 0);
}
