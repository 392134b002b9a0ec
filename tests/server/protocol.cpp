// Raw requests, bytes in, status and decisive fields out.
#include <catch2/catch.hpp>

#include "support/support.hpp"

using namespace porter::test;

TEST_CASE("connections are kept or closed as both sides say") {
  TempFolder folder;
  folder.write("a.html", "A");
  Server server(folder.path());
  const std::string plain = "GET /a.html HTTP/1.1\r\nHost: localhost\r\n\r\n";

  Connection pipelined(server.port());
  pipelined.send(plain + plain + "GET /none HTTP/1.1\r\nHost: localhost\r\n\r\n" + plain);
  for (const int status : {200, 200, 404, 200}) CHECK(pipelined.receive().status == status);

  Connection old(server.port());
  old.send("GET /a.html HTTP/1.0\r\n\r\n");
  CHECK(old.receive().body == "A");
  CHECK(old.is_closed());

  Connection kept(server.port());
  kept.send("GET /a.html HTTP/1.0\r\nConnection: Keep-Alive\r\n\r\n");
  CHECK(kept.receive().field("connection") == "keep-alive");
  kept.send("GET /a.html HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n");
  CHECK(kept.receive().field("connection") == "close");
  CHECK(kept.is_closed());

  Connection slow(server.port());
  for (const char c : plain) {
    slow.send(std::string_view(&c, 1));
    pause_ms(1);
  }
  CHECK(slow.receive().body == "A");
  CHECK(server.stop() == 0);
}

TEST_CASE("bodies are bounded, and refused before they are read") {
  TempFolder folder;
  folder.write("cgi-bin/x", "#!/bin/sh\nn=$(wc -c)\nprintf \"Content-Type: text/plain\\n\\n$n\"\n", 0755);
  Server server(folder.path());
  Connection announced(server.port());
  announced.send("POST /cgi-bin/x HTTP/1.1\r\nHost: localhost\r\nContent-Length: 99999999999\r\n\r\n");
  CHECK(announced.receive().status == 413);
  CHECK(announced.is_closed());

  Connection waiting(server.port());
  waiting.send("POST /cgi-bin/x HTTP/1.1\r\nHost: localhost\r\nExpect: 100-continue\r\nContent-Length: 3\r\n\r\n");
  const std::string interim = waiting.receive_all(std::chrono::milliseconds(300));
  CHECK(interim == "HTTP/1.1 100 Continue\r\n\r\n");
  waiting.send("abc");
  CHECK(waiting.receive().body == "3");
  CHECK(server.stop() == 0);
}
