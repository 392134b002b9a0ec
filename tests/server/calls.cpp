// Every system call on the way of a request is made to fail once, or to do less than was asked for: that request may
// fail, and the server goes on.
#include <catch2/catch.hpp>
#include <cerrno>

#include "shim/failing_calls.hpp"
#include "support/shared_value.hpp"
#include "support/support.hpp"

using namespace porter::test;

namespace {

constexpr int kLess = 0;

}  // namespace

TEST_CASE("a system call that fails, or does less, fails one request at most") {
  TempFolder folder;
  folder.write("pages/a.txt", "fine");
  folder.write("pages/large.bin", std::string(300000, 'l'));
  folder.write("pages/style.css", std::string(5000, 's'));
  folder.write("pages/list/b.txt", "x");
  folder.write("pages/cgi-bin/x", "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nran '; cat\n", 0755);
  SharedValue<FailingPlan> plan(folder, "plan");
  Server server(folder.path() + "/pages", {"--threads", "1"},
                loading("libfailing_calls.so", "PORTER_FAILING_CALL", plan.path()));
  struct Row {
    FailingCall call;
    std::vector<int> errors;
  };
  // EAGAIN where the system says that something is there would be a fault of its own, so waiting does not meet it.
  const std::vector<Row> rows = {{FailingCall::accept, {EMFILE, ENFILE, ENOMEM, ECONNABORTED, EINTR}},
                                 {FailingCall::receive, {ECONNRESET, ENOMEM, EINTR, kLess}},
                                 {FailingCall::send, {ECONNRESET, EPIPE, ENOMEM, EAGAIN, EINTR, kLess}},
                                 {FailingCall::send_file, {ECONNRESET, EIO, ENOMEM, EAGAIN, EINTR, kLess}},
                                 {FailingCall::read, {EIO, EINTR, kLess}},
                                 {FailingCall::write, {ENOSPC, EIO, EINTR, kLess}},
                                 {FailingCall::open, {EMFILE, ENFILE, ENOMEM, EINTR}},
                                 {FailingCall::stat, {ENOMEM}},
                                 {FailingCall::pipe, {EMFILE}},
                                 {FailingCall::watch, {ENOMEM, ENOSPC}},
                                 {FailingCall::wait, {EINTR}}};
  const std::string end = " HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n";
  const std::vector<std::string> requests = {
      "GET /a.txt" + end + "\r\n",
      "GET /large.bin" + end + "\r\n",
      "GET /style.css" + end + "Accept-Encoding: gzip\r\n\r\n",
      "GET /list/" + end + "\r\n",
      "GET /none" + end + "\r\n",
      "GET /cgi-bin/x" + end + "\r\n",
      "POST /cgi-bin/x" + end + "Content-Length: 5\r\n\r\nhello",
      "POST /cgi-bin/x" + end + "Transfer-Encoding: chunked\r\n\r\n2\r\nhi\r\n0\r\n\r\n"};
  long failed = 0;
  for (const Row& row : rows)
    for (const int error : row.errors)
      for (const std::string& bytes : requests) {
        // All requests come in by the same door, and it opens a moment later after a failure.
        if (row.call == FailingCall::accept && &bytes != &requests.front()) break;
        bool is_past = false;
        for (long number = 1; !is_past && number < 40; ++number) {
          CAPTURE(static_cast<int>(row.call), error, bytes, number);
          plan->call = row.call;
          plan->error = error;
          plan->countdown = number;
          {
            Connection connection(server.port());
            connection.send(bytes);
            const Response response = connection.receive();
            // What was told as whole is right.
            const bool is_whole_file = bytes.find("/large.bin") == bytes.npos || response.status != 200 ||
                                       !response.whole || response.body == std::string(300000, 'l');
            REQUIRE(is_whole_file);
            if (error == EINTR || error == kLess) {
              REQUIRE(response.status != 0);
              REQUIRE(response.whole);
            }
          }
          is_past = plan->countdown.exchange(0) > 0;
          failed += is_past ? 0 : 1;
          const Response after = get(server.port(), "/a.txt");
          REQUIRE(after.status == 200);
          REQUIRE(after.body == "fine");
        }
        REQUIRE(is_past);
      }
  // Each of them was met, most of them by several requests.
  CHECK(failed > 150);
  CHECK(eventually([&] { return children_of(server.program().id()).empty(); }));
  const std::size_t descriptors = open_descriptors(server.program().id());
  CHECK(descriptors < 40);
  CHECK(server.stop() == 0);
}
