#!/usr/bin/python3
"""Uses a server for a long time in every way at once, and compares what it holds afterwards with what it held before.

Usage: soak.py BUILD_FOLDER [SECONDS]      600 s if nothing is said

Files, listings, scripts, errors, uploads, clients that leave or are slow, reloads, edits of the settings, archives,
comparisons, kills of scripts and of the warden: all of it goes on for the whole time, in random order. At the end the
server must have the descriptors, threads and children of its beginning, and no memory that grows: the last third of the
time may not add to what the first third left. Then servers are stopped, a dozen times, in the middle of all of that.
"""
import os
import random
import re
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time


def free_port():
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


def write(path, content, mode=0o644):
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path + ".new", "w", encoding="utf-8") as file:
        file.write(content)
    os.chmod(path + ".new", mode)
    os.replace(path + ".new", path)


class Soak:
    def __init__(self, build, seconds):
        self.build = build
        self.seconds = seconds
        self.folder = tempfile.mkdtemp(prefix="porter-soak-")
        self.port = free_port()
        self.over = False
        self.counts = {}
        self.problems = []
        self.lock = threading.Lock()
        self.environment = dict(os.environ, HOME=self.folder, XDG_STATE_HOME=self.folder + "/state", XDG_RUNTIME_DIR="",
                                ASAN_OPTIONS="detect_leaks=0:quarantine_size_mb=8:malloc_context_size=1")
        self.make_site()

    def make_site(self):
        base = self.folder + "/pages/"
        head = "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n'\n"
        for i in range(200):
            write(f"{base}many/file-{i}.txt", "x" * i)
        write(base + "index.html", "<p>Gull Sound")
        write(base + "style.css", ".gull { color: teal }\n" * 400)
        write(base + "large.bin", "b" * 3_000_000)
        write(base + "page.php", "<?php echo 'tides ', strlen(file_get_contents('php://input'));")
        write(base + "broken.php", "<?php tides(")
        write(base + "cgi-bin/quick", head + "echo quick\n", 0o755)
        write(base + "cgi-bin/count", head + "wc -c\n", 0o755)
        write(base + "cgi-bin/slow", head + "sleep 0.3; echo slow\n", 0o755)
        write(base + "cgi-bin/stays", head + "echo stays; sleep 60\n", 0o755)
        write(base + "cgi-bin/away", "#!/bin/sh\n(setsid sleep 60 &)\n" + head.split("\n", 1)[1] + "echo away\n", 0o755)
        write(base + "cgi-bin/fails", "#!/bin/sh\necho 'the tide is out' >&2; exit 3\n", 0o755)
        write(base + "cgi-bin/dies", "#!/bin/sh\nkill -9 $$\n", 0o755)
        self.settings(0)

    def settings(self, number):
        write(self.folder + "/uporter.toml", f"""addresses = {self.port}
[site.gulls]
document-root = "pages"
response-headers = {{ X-Number = "{number}" }}
[exchanges]
memory = "8 MiB"
[limits]
body-pause = 3
head-time = 2
idle-time = 5
first-byte = 5
""")

    def count(self, what):
        with self.lock:
            self.counts[what] = self.counts.get(what, 0) + 1

    def problem(self, what):
        with self.lock:
            if len(self.problems) < 20:
                self.problems.append(what)

    def connect(self):
        client = socket.create_connection(("127.0.0.1", self.port), timeout=20)
        return client

    def ask(self, request, wanted):
        with self.connect() as client:
            client.sendall(request)
            received = b""
            while part := client.recv(65536):
                received += part
        status = received[9:12].decode(errors="replace")
        self.count(status)
        if status not in wanted:
            self.problem(f"{request[:60]!r} was answered {received[:60]!r}")

    def ordinary(self):
        end = b" HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n"
        rows = [
            (b"GET /" + end + b"\r\n", ("200",)),
            (b"GET /style.css" + end + b"Accept-Encoding: gzip\r\n\r\n", ("200",)),
            (b"GET /many/" + end + b"\r\n", ("200",)),
            (b"GET /large.bin" + end + b"Range: bytes=5-100,2000-\r\n\r\n", ("206",)),
            (b"GET /large.bin" + end + b"\r\n", ("200",)),
            (b"GET /none" + end + b"Accept: text/html\r\n\r\n", ("404",)),
            (b"GET /cgi-bin/quick" + end + b"\r\n", ("200", "500", "503")),
            (b"GET /cgi-bin/slow" + end + b"\r\n", ("200", "500", "503")),
            (b"GET /cgi-bin/away" + end + b"\r\n", ("200", "500", "503")),
            (b"GET /cgi-bin/fails" + end + b"\r\n", ("500", "503")),
            (b"GET /cgi-bin/dies" + end + b"\r\n", ("500", "503")),
            (b"GET /broken.php" + end + b"Accept: text/html\r\n\r\n", ("500", "503")),
            (b"POST /page.php" + end + b"Content-Length: 5\r\n\r\nhello", ("200", "500", "503")),
            (b"POST /cgi-bin/count" + end + b"Transfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n", ("200", "500", "503")),
            (b"BREW /" + end + b"\r\n", ("405",)),
            (b"GET / HTTP/1.1\r\nHost: evil.example\r\nConnection: close\r\n\r\n", ("421",)),
            (b"nonsense\r\n\r\n", ("400",)),
        ]
        while not self.over:
            try:
                self.ask(*random.choice(rows))
            except OSError as error:
                self.problem(f"no response: {error}")

    def leaving(self):
        while not self.over:
            try:
                client = self.connect()
                target = random.choice((b"/large.bin", b"/cgi-bin/stays", b"/cgi-bin/slow", b"/many/"))
                request = b"POST " + target + b" HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1000\r\n\r\nabc" \
                    if random.random() < 0.3 else b"GET " + target + b" HTTP/1.1\r\nHost: localhost\r\n\r\n"
                client.sendall(request[:random.randrange(1, len(request) + 1)])
                time.sleep(random.random() * 0.3)
                client.close()
                self.count("left")
            except OSError as error:
                self.problem(f"leaving: {error}")

    def slow(self):
        while not self.over:
            try:
                with self.connect() as client:
                    for byte in b"GET /style.css HTTP/1.1\r\nHost: localhost\r\n\r\n":
                        client.sendall(bytes((byte,)))
                        time.sleep(0.02)
                    client.recv(100)
                    time.sleep(0.5)
                self.count("slow")
            except OSError:
                pass  # It may be told that it is too slow.

    def steering(self):
        number = 0
        client = [self.build + "/uporter", "--settings", self.folder + "/uporter.toml"]
        while not self.over:
            number += 1
            self.settings(number)
            last = self.last_exchange()
            some = [str(max(1, last - random.randrange(50))) for _ in range(2)]
            deeds = [["reload"], ["status", "--json"], ["site", "add", "tides", self.folder + "/pages/many"],
                     ["explain", f"http://localhost:{self.port}/none"], ["site", "remove", "tides"], ["log"],
                     ["exchanges", "--har", self.folder + "/all.har", "--limit", "300"], ["compare", *some],
                     ["exchanges", "--har", self.folder + "/all.har", "--with-secrets", "--limit", "100"],
                     ["exchange", some[0]], ["again", some[0], "--yes"], ["exchanges", "--text", "tide gull"]]
            random.shuffle(deeds)
            for words in deeds:
                if self.over:
                    break
                done = subprocess.run([client[0], *words, *client[1:]], env=self.environment, capture_output=True, text=True,
                                      check=False)
                # An exchange may have made room for others by now.
                if done.returncode not in ((0, 1, 2) if words[0] == "compare" else (0, 1)):
                    self.problem(f"{words}: {done.returncode} {done.stderr[:200]}")
            self.count("steered")
            time.sleep(1)

    def control(self, method, target, body=b""):
        """A call of the control interface: its status and what it says; 0: there is no response."""
        sockets = [os.path.join(at, "control") for at, _, names in os.walk(self.folder + "/state") if "control" in names]
        try:
            with socket.socket(socket.AF_UNIX) as client:
                client.settimeout(60)
                client.connect(sockets[0])
                client.sendall(f"{method} {target} HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: {len(body)}\r\n\r\n"
                               .encode() + body)
                received = b""
                while part := client.recv(65536):
                    received += part
            return int(received[9:12] or 0), received
        except (OSError, IndexError, ValueError):
            return 0, b""

    def last_exchange(self):
        found = re.search(rb'"last":(\d+)', self.control("GET", "/v1/exchanges?limit=1")[1])
        return int(found.group(1)) if found else 1

    def stops(self):
        """Has servers end in the middle of whatever they are asked, and sees that they do."""
        deeds = [("POST", "/v1/reload", b""), ("POST", "/v1/pause", b""), ("POST", "/v1/resume", b""), ("POST", "/v1/stop", b""),
                 ("POST", "/v1/restart", b""), ("PATCH", "/v1/sites/gulls", b'{"hosts":["localhost","gulls.localhost"]}'),
                 ("GET", "/v1/exchanges.har?limit=300", b""), ("GET", "/v1/languages/Perl", b"")]
        for _ in range(12):
            self.start()
            self.over = False
            self.problems, before = [], self.problems  # Requests fail now, as they should.
            threads = [threading.Thread(target=job) for job in [self.ordinary] * 3 + [self.leaving]]
            threads += [threading.Thread(target=self.control, args=random.choice(deeds)) for _ in range(6)]
            for thread in threads:
                thread.start()
            time.sleep(random.random())
            self.server.send_signal(signal.SIGTERM)
            self.over = True
            try:
                ended = self.server.wait(timeout=40)
            except subprocess.TimeoutExpired:
                ended = "nothing within 40 s"
                self.server.kill()
            for thread in threads:
                thread.join()
            self.problems = before
            self.count("stops")
            if ended not in (0, -signal.SIGTERM):
                self.problem(f"a stop ended with {ended}")

    def killing(self):
        while not self.over:
            time.sleep(0.5)
            for pid in self.children():
                if random.random() < 0.3:
                    try:
                        os.kill(pid, signal.SIGKILL)
                        self.count("killed")
                    except ProcessLookupError:
                        pass
            if random.random() < 0.1:
                for pid in self.wardens():
                    os.kill(pid, signal.SIGKILL)
                    self.count("wardens")

    def children(self):
        out = []
        for task in os.listdir(f"/proc/{self.server.pid}/task"):
            try:
                with open(f"/proc/{self.server.pid}/task/{task}/children", encoding="ascii") as file:
                    out += [int(word) for word in file.read().split()]
            except OSError:
                pass
        return [pid for pid in out if pid not in self.wardens()]

    def wardens(self):
        out = []
        for entry in os.listdir("/proc"):
            if entry.isdigit() and int(entry) != self.server.pid:
                try:
                    with open(f"/proc/{entry}/cmdline", "rb") as file:
                        if self.folder.encode() in file.read() and open(f"/proc/{entry}/comm").read() == "porter-warden\n":
                            out.append(int(entry))
                except OSError:
                    pass
        return out

    def state(self):
        pid = self.server.pid
        with open(f"/proc/{pid}/status", encoding="ascii", errors="replace") as file:
            status = dict(line.rstrip("\n").split(":", 1) for line in file)
        return {"memory": int(status["VmRSS"].split()[0]), "threads": int(status["Threads"]),
                "descriptors": len(os.listdir(f"/proc/{pid}/fd")), "children": len(self.children())}

    def rest(self, base=None):
        """What it holds once all that was asked is over."""
        for _ in range(200):
            state = self.state()
            if base is None or (state["children"] == 0 and state["descriptors"] <= base["descriptors"] + 2):
                return state
            time.sleep(0.1)
        for pid in self.children():
            print("  still there:", open(f"/proc/{pid}/cmdline").read().replace("\0", " "), open(f"/proc/{pid}/stat").read()[:60])
        return state

    def start(self):
        with open(self.folder + "/log", "ab") as log:
            self.server = subprocess.Popen([self.build + "/uporterd", "--settings", self.folder + "/uporter.toml"],
                                           stdout=log, stderr=log, env=self.environment)
        for _ in range(600):
            try:
                self.connect().close()
                break
            except OSError:
                time.sleep(0.05)

    def run(self):
        self.start()
        time.sleep(3)
        base = None
        marks = []
        third = self.seconds / 3
        for part in range(4):
            # The first round, a short one, fills what is kept for reuse.
            self.over = False
            jobs = [self.ordinary] * 6 + [self.leaving] * 2 + [self.slow] * 3 + [self.steering, self.killing]
            threads = [threading.Thread(target=job) for job in jobs]
            for thread in threads:
                thread.start()
            time.sleep(min(10, third) if part == 0 else third)
            self.over = True
            for thread in threads:
                thread.join()
            time.sleep(6)  # What is kept open is closed when idle.
            state = self.rest(base)
            base = base or state
            marks.append(state)
            print("after the first seconds" if part == 0 else f"after {part} of 3 parts", state, flush=True)
            if self.server.poll() is not None:
                self.problem(f"the server ended with {self.server.returncode}")
                break
        self.server.send_signal(signal.SIGTERM)
        ended = self.server.wait(timeout=30)
        print("counts", dict(sorted(self.counts.items())))
        first, last = marks[1], marks[-1]
        # Each of the two workers may keep one large file open in its cache.
        for what, more in (("threads", 0), ("descriptors", 2), ("children", 0)):
            if last[what] > base[what] + more:
                self.problem(f"{what}: {base[what]} before, {last[what]} after")
        if last["memory"] > first["memory"] * 1.05 + 512:
            self.problem(f"memory grows: {first['memory']} KiB after a third, {last['memory']} KiB at the end")
        if ended != 0:
            self.problem(f"it ended with {ended}")
        self.stops()
        left = [pid for pid in os.listdir("/proc") if pid.isdigit() and self.is_ours(pid)]
        if left:
            self.problem(f"processes left: {left}")
        for problem in self.problems:
            print("PROBLEM", problem)
        print("soak:", "failed" if self.problems else "nothing was left and nothing has grown")
        sys.exit(1 if self.problems else 0)

    def is_ours(self, pid):
        try:
            with open(f"/proc/{pid}/cwd/../../uporter.toml", "rb"):
                return os.readlink(f"/proc/{pid}/cwd").startswith(self.folder)
        except OSError:
            return False


Soak(sys.argv[1], float(sys.argv[2]) if len(sys.argv) > 2 else 600).run()
