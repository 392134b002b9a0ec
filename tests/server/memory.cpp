// Every allocation on the way of a request is made to fail once: that request may fail, and the server goes on.
#include <atomic>
#include <catch2/catch.hpp>

#include "support/shared_value.hpp"
#include "support/support.hpp"

using namespace porter::test;

namespace {

struct Row {
  const char* name;
  std::string bytes;
  int status;
  bool is_asked_before = false;  ///< On the same connection, so that what it leads to is known.
};

/// Asks for it again and again, each time with another allocation that fails, until none is left to fail.
void fail_each(const Server& server, std::atomic<long>& failing, const Row& row) {
  CAPTURE(row.name);
  long number = 1;
  bool is_past = false;
  for (; !is_past && number < 2000; number += number < 100 ? 1 : 7) {
    CAPTURE(number);
    {
      Connection connection(server.port());
      if (row.is_asked_before) {
        connection.send(row.bytes);
        REQUIRE(connection.receive().status == row.status);
      }
      failing = number;
      connection.send(row.bytes);
      connection.finish_sending();
      const Response response = connection.receive();
      is_past = failing.load() > 0;
      failing = 0;
      // It went well in spite of it, was told as a lack of memory, was cut off, or a problem was told with less.
      const bool is_fine = response.status == row.status || response.status == 503 || response.status == 0 ||
                           response.status == 500 || !response.whole;
      REQUIRE(is_fine);
    }
    const Response after = get(server.port(), "/a.txt");
    REQUIRE(after.status == 200);
    REQUIRE(after.body == "fine");
  }
  CHECK(number > 1);
  // Nothing is left of what was given up: the same requests are answered as ever.
  Connection connection(server.port());
  connection.send(row.bytes);
  CHECK(connection.receive().status == row.status);
}

const std::string kEnd = " HTTP/1.1\r\nHost: localhost\r\n";

}  // namespace

TEST_CASE("a lack of memory at any point fails one request and no more") {
  TempFolder folder;
  folder.write("a.txt", "fine");
  folder.write("style.css", std::string(5000, 's'));
  folder.write("list/b.txt", "x");
  folder.write("cgi-bin/x", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nran '; cat\n", 0755);
  folder.write("cgi-bin/fails", "#!/bin/sh\necho 'the tide is out' >&2; exit 3\n", 0755);
  // The allocation to which it counts down fails.
  SharedValue<std::atomic<long>> failing(folder, "counter");
  Server server(folder.path(), {"--threads", "1"}, loading("libfailing_new.so", "PORTER_FAILING_NEW", failing.path()));
  for (const Row& row :
       {Row{"a file", "GET /a.txt" + kEnd + "\r\n", 200},
        Row{"a compressed file", "GET /style.css" + kEnd + "Accept-Encoding: gzip\r\n\r\n", 200},
        Row{"ranges", "GET /style.css" + kEnd + "Range: bytes=0-5,10-20\r\n\r\n", 206},
        Row{"a listing", "GET /list/" + kEnd + "\r\n", 200}, Row{"a redirect", "GET /list" + kEnd + "\r\n", 301},
        Row{"nothing", "GET /none" + kEnd + "Accept: text/html\r\n\r\n", 404},
        Row{"a script", "GET /cgi-bin/x" + kEnd + "\r\n", 200},
        Row{"an upload", "POST /cgi-bin/x" + kEnd + "Content-Length: 5\r\n\r\nhello", 200},
        Row{"a chunked upload", "POST /cgi-bin/x" + kEnd + "Transfer-Encoding: chunked\r\n\r\n2\r\nhi\r\n0\r\n\r\n",
            200},
        Row{"a script that fails", "GET /cgi-bin/fails" + kEnd + "\r\n", 500},
        Row{"what is no request", "tide\r\n\r\n", 400}})
    fail_each(server, *failing, row);
  CHECK(eventually([&] { return children_of(server.program().id()).empty(); }));
  CHECK(server.stop() == 0);
}

TEST_CASE("a lack of memory on the way of a script that is kept leaves no process that nobody asks") {
  TempFolder folder;
  folder.write("a.txt", "fine");
  folder.write("tide.php", "<?php echo '07:40';");
  folder.write("large.php", "<?php echo str_repeat('k', 300000);");
  folder.write("upload.php", "<?php echo strlen(file_get_contents('php://input'));");
  SharedValue<std::atomic<long>> failing(folder, "counter");
  Server server(folder.path(), {"--threads", "1"}, loading("libfailing_new.so", "PORTER_FAILING_NEW", failing.path()));
  for (const Row& row : {Row{"a page", "GET /tide.php" + kEnd + "\r\n", 200},
                         Row{"a page that was asked for before", "GET /tide.php" + kEnd + "\r\n", 200, true},
                         Row{"a large one", "GET /large.php" + kEnd + "\r\n", 200, true},
                         Row{"an upload", "POST /upload.php" + kEnd + "Content-Length: 5\r\n\r\nhello", 200}})
    fail_each(server, *failing, row);
  // Four cores at most have two each.
  CHECK(children_of(server.program().id()).size() <= 8);
  for (int i = 0; i < 20; ++i) CHECK(get(server.port(), "/tide.php").body == "07:40");
  CHECK(server.stop() == 0);
}
