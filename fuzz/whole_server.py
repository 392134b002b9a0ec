#!/usr/bin/python3
"""Feeds a whole server invented sequences of requests over its socket, and watches that it answers and rests.

Usage: whole_server.py UPORTERD [SECONDS] [SEED]

The server is one built with sanitizers; behind it are files, scripts, links and problem pages. Each connection carries a
sequence of requests that were made from good ones by mutation. It fails when the server ends, when a request that is
surely whole is not answered within 10 s, and when a thread of it keeps a processor busy though nothing is asked. What was
sent last is kept in build/fuzz.
"""
import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import time

PATIENCE = 10
SEEDS = [
    b"GET / HTTP/1.1\r\nHost: localhost\r\n\r\n",
    b"GET /list/?sort=size&order=down HTTP/1.1\r\nHost: a.localhost\r\nAccept: text/html\r\n\r\n",
    b"HEAD /style.css HTTP/1.1\r\nHost: localhost\r\nAccept-Encoding: gzip\r\n\r\n",
    b"GET /large.bin HTTP/1.1\r\nHost: localhost\r\nRange: bytes=0-9,100-,-5\r\nIf-Range: \"x\"\r\n\r\n",
    b"GET /style.css HTTP/1.1\r\nHost: localhost\r\nIf-None-Match: *\r\nIf-Modified-Since: Mon, 01 Jan 2001 00:00:00 GMT\r\n\r\n",
    b"POST /cgi-bin/echo?a=b+c HTTP/1.1\r\nHost: localhost\r\nContent-Length: 5\r\n\r\nhello",
    b"POST /cgi-bin/echo HTTP/1.1\r\nHost: localhost\r\nTransfer-Encoding: chunked\r\n\r\n5;x=y\r\nhello\r\n0\r\nT: x\r\n\r\n",
    b"POST /cgi-bin/deaf HTTP/1.1\r\nHost: localhost\r\nExpect: 100-continue\r\nContent-Length: 3\r\n\r\nabc",
    b"GET /cgi-bin/fails HTTP/1.1\r\nHost: localhost\r\nAccept: text/html\r\n\r\n",
    b"GET /cgi-bin/local HTTP/1.1\r\nHost: localhost\r\n\r\n",
    b"GET /cgi-bin/nph-raw HTTP/1.1\r\nHost: localhost\r\n\r\n",
    b"GET /page.php/extra?q=1 HTTP/1.1\r\nHost: localhost\r\nCookie: a=b; c=d\r\nCookie: e=f\r\n\r\n",
    b"GET /none/%2e%2e/x HTTP/1.0\r\n\r\n",
    b"OPTIONS * HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n",
    b"GET http://b.localhost/front/x HTTP/1.1\r\nHost: b.localhost\r\n\r\n",
    b"DELETE /link.txt HTTP/1.1\r\nHost: localhost\r\n\r\n",
    b"GET /leak.txt HTTP/1.1\r\nHost: evil.example\r\n\r\n",
]
PIECES = [b"\r\n", b"\n", b"\r", b"\0", b" ", b":", b"%", b"%00", b"%2F", b"/..", b"//", b"HTTP/1.1", b"chunked", b"Content-Length: ",
          b"Transfer-Encoding: ", b"18446744073709551615", b"-1", b"0", b"ffffffffffffffff", b"Host: ", b"*", b"\xff\xfe", b"\x16\x03\x01",
          b"Connection: close\r\n", b"Expect: 100-continue\r\n", b"Range: bytes=", b"A" * 3000, b"A" * 70000, b"X: y\r\n" * 60, b"(deleted)"]


def make_site(folder):
    def write(name, content, mode=0o644):
        path = os.path.join(folder, name)
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "wb") as file:
            file.write(content)
        os.chmod(path, mode)

    head = b"#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n'\n"
    write("a/index.html", b"<p>gulls")
    write("a/list/b.txt", b"x")
    write("a/style.css", b"c" * 5000)
    write("a/large.bin", os.urandom(300000))
    write("a/page.php", b"<?php print_r($_SERVER); ?>")
    write("a/cgi-bin/echo", head + b"echo \"$QUERY_STRING\"; cat\n", 0o755)
    write("a/cgi-bin/deaf", head + b"echo deaf\n", 0o755)
    write("a/cgi-bin/fails", b"#!/bin/sh\necho 'File \"/dev/zero\", line 3' >&2; exit 3\n", 0o755)
    write("a/cgi-bin/local", b"#!/bin/sh\nprintf 'Location: /list/\\n\\n'\n", 0o755)
    write("a/cgi-bin/nph-raw", b"#!/bin/sh\nprintf 'HTTP/1.1 299 Raw\\r\\n\\r\\nraw'\n", 0o755)
    write("a/lost.php", b"<?php echo 'lost ', $_SERVER['REDIRECT_STATUS'] ?>")
    write("a/failed.html", b"<p>failed")
    write("a/.hidden", b"secret")
    write("outside.txt", b"SECRET")
    os.symlink("style.css", os.path.join(folder, "a/link.txt"))
    os.symlink("../outside.txt", os.path.join(folder, "a/leak.txt"))
    write("b/front.php", b"<?php echo $_SERVER['REQUEST_URI'] ?>")
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    write("uporter.toml", f"""addresses = {port}
[site.a]
document-root = "a"
hosts = ["a.localhost"]
[site.a.problem-pages]
404 = "lost.php"
500 = "failed.html"
[site.b]
document-root = "b"
fallback = "front.php"
[limits]
head = 131072
request-line = 100000
first-byte = 4
body-pause = 3
head-time = 3
idle-time = 3
""".encode())
    return port


def mutate(chance, request):
    data = bytearray(request)
    for _ in range(chance.choice((0, 0, 1, 1, 2, 4, 9))):
        at = chance.randrange(len(data) + 1)
        kind = chance.randrange(5)
        if kind == 0:
            data[at:at] = chance.choice(PIECES)
        elif kind == 1:
            del data[at:at + chance.choice((1, 1, 2, 8, 40))]
        elif kind == 2 and at < len(data):
            data[at] = chance.randrange(256)
        elif kind == 3:
            other = chance.choice(SEEDS)
            data[at:at] = other[chance.randrange(len(other)):]
        else:
            end = min(len(data), at + chance.randrange(1, 40))
            data[at:at] = data[at:end]
    return bytes(data)


def talk(port, pieces):
    """Sends the pieces, then the end; gives what came back and whether the server closed in time."""
    begun = time.monotonic()
    received = b""
    with socket.create_connection(("127.0.0.1", port)) as client:
        client.settimeout(PATIENCE + 5)
        try:
            for piece in pieces:
                client.sendall(piece)
            # Asked last, so that the end of the answers can be told: HTTP/1.0 closes.
            client.sendall(b"GET /index.html HTTP/1.0\r\n\r\n")
            client.shutdown(socket.SHUT_WR)
        except OSError:
            pass  # It was refused and closed before all was sent.
        try:
            while part := client.recv(65536):
                received += part
        except socket.timeout:
            return received, False
        except OSError:
            pass
    return received, time.monotonic() - begun < PATIENCE


def busy_ticks(pid):
    out = {}
    for task in os.listdir(f"/proc/{pid}/task"):
        try:
            with open(f"/proc/{pid}/task/{task}/stat", encoding="ascii", errors="replace") as file:
                fields = file.read().rsplit(")", 1)[1].split()
        except FileNotFoundError:
            continue
        out[task] = int(fields[11]) + int(fields[12])
    return out


def main():
    program = sys.argv[1]
    seconds = float(sys.argv[2]) if len(sys.argv) > 2 else 60
    seed = int(sys.argv[3]) if len(sys.argv) > 3 else int(time.time())
    chance = random.Random(seed)
    os.makedirs("build/fuzz", exist_ok=True)
    last = "build/fuzz/whole-server-last"
    with tempfile.TemporaryDirectory() as folder, open("build/fuzz/whole-server-log", "wb") as log:
        port = make_site(folder)
        environment = dict(os.environ, HOME=folder, XDG_STATE_HOME=folder + "/state", XDG_RUNTIME_DIR="",
                           ASAN_OPTIONS="detect_leaks=0")
        server = subprocess.Popen([program, "--settings", folder + "/uporter.toml"], stdout=log, stderr=log, env=environment)
        for _ in range(600):
            try:
                socket.create_connection(("127.0.0.1", port)).close()
                break
            except OSError:
                time.sleep(0.05)
        end = time.monotonic() + seconds
        sequences = 0

        def fail(what):
            print(f"whole server: {what} (seed {seed}; sent last: {last}, its log: build/fuzz/whole-server-log)")
            server.kill()
            sys.exit(1)

        rested = time.monotonic()
        while time.monotonic() < end:
            pieces = [mutate(chance, chance.choice(SEEDS)) for _ in range(chance.randrange(1, 6))]
            with open(last, "wb") as file:
                file.write(b"".join(pieces))
            received, in_time = talk(port, pieces)
            sequences += 1
            if server.poll() is not None:
                fail(f"it ended with {server.returncode}")
            if not in_time:
                fail(f"no end of the answers within {PATIENCE} s")
            if b"SECRET" in received:
                fail("what lies outside of the document root was sent")
            if time.monotonic() - rested > 10:
                time.sleep(1)  # What was started may end.
                before = busy_ticks(server.pid)
                time.sleep(1)
                after = busy_ticks(server.pid)
                spinning = [task for task in after if after[task] - before.get(task, 0) > 50]
                if spinning:
                    fail(f"threads {spinning} spin though nothing is asked")
                rested = time.monotonic()
        server.send_signal(signal.SIGTERM)
        if server.wait(timeout=30) != 0:
            fail(f"it ended with {server.returncode}")
    print(f"whole server: {sequences} sequences of requests in {seconds:.0f} s, all answered (seed {seed})")


main()
