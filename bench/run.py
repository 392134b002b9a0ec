#!/usr/bin/python3
"""Measures the server against the limits of the machine: each floor and the product, by turns, in one run.

Usage: run.py BUILD_FOLDER [--rounds N] [--seconds N] [--only WORD]
Prints a table and writes bench/results.md. Load comes from wrk, on loopback only, for a bounded time.
"""
import argparse
import json
import os
import re
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import time

TURN = 0.25  # Seconds; as in floors/spawn_race.cpp.
HERE = os.path.dirname(os.path.abspath(__file__))
TICK = os.sysconf("SC_CLK_TCK")


def free_port():
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


def wait_for(port):
    for _ in range(400):
        try:
            socket.create_connection(("127.0.0.1", port)).close()
            return
        except OSError:
            time.sleep(0.01)
    sys.exit(f"nothing listens on port {port}")


def cpu_seconds(pid):
    with open(f"/proc/{pid}/stat", encoding="ascii", errors="replace") as file:
        fields = file.read().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / TICK


def stolen_and_all():
    """Processor time that the host gave to other machines, and all of it, so far."""
    with open("/proc/stat", encoding="ascii") as file:
        ticks = [int(word) for word in file.readline().split()[1:]]
    return ticks[7], sum(ticks[:8])


def resident_kib(pid):
    with open(f"/proc/{pid}/status", encoding="ascii", errors="replace") as file:
        return int(re.search(r"VmRSS:\s+(\d+)", file.read()).group(1))


def quartiles(values, digits):
    low, middle, high = statistics.quantiles(values, n=4)
    return f"{middle:,.{digits}f} ({low:,.{digits}f}–{high:,.{digits}f})"


def delays_of(port, path):
    """Milliseconds from the moments that a script prints to when they are read, for each of them."""
    delays = []
    with socket.create_connection(("127.0.0.1", port)) as client:
        client.sendall(f"GET {path} HTTP/1.0\r\n\r\n".encode())
        while data := client.recv(4096):
            now = time.clock_gettime_ns(time.CLOCK_MONOTONIC)
            delays += [(now - int(stamp)) / 1e6 for stamp in re.findall(rb"^(\d{10,})$", data, re.M)]
    return delays


class Subject:
    """A program under load: a floor, or the product."""

    def __init__(self, name, words, port, environment=None):
        self.name = name
        self.port = port
        self.log = tempfile.TemporaryFile()
        self.process = subprocess.Popen(words, stdout=self.log, stderr=self.log, env=environment)
        self.rates = []
        self.costs = []
        wait_for(port)

    def load(self, path, seconds, connections, threads=1, headers=(), options=()):
        before = cpu_seconds(self.process.pid)
        words = ["wrk", f"-t{threads}", f"-c{connections}", f"-d{seconds}s", *options]
        for header in headers:
            words += ["-H", header]
        out = subprocess.run(words + [f"http://127.0.0.1:{self.port}{path}"], capture_output=True, text=True,
                             check=True).stdout
        if "Socket errors" in out:
            print(f"  {self.name}: {out}", file=sys.stderr)
        rate = float(re.search(r"Requests/sec:\s+([\d.]+)", out).group(1))
        count = int(re.search(r"(\d+) requests in", out).group(1))
        self.rates.append(rate)
        self.costs.append((cpu_seconds(self.process.pid) - before) / max(count, 1) * 1e6)

    def stop(self):
        self.process.terminate()
        self.process.wait()


class Bench:
    def __init__(self, arguments):
        self.arguments = arguments
        self.rows = []
        self.notes = []
        self.begun = stolen_and_all()
        self.folder = tempfile.mkdtemp(prefix="porter-bench-")

    def wanted(self, title):
        return self.arguments.only in title

    def file(self, name, size):
        path = os.path.join(self.folder, name)
        with open(path, "wb") as file:
            line = b"07:40 Skerry Head to Morrow Bay, Kittiwake, 35 minutes.\n"
            file.write((line * (size // len(line) + 1))[:size])
        return path

    def server(self, *options, environment=None):
        port = free_port()
        words = [os.path.join(self.arguments.build, "uporterd"), "--folder", self.folder, "--port", str(port), *options]
        return Subject("product", words, port, environment)

    def settled(self, keep):
        """A server of the same folder by settings, which say whether exchanges are kept."""
        port = free_port()
        home = tempfile.mkdtemp(prefix="porter-bench-")
        settings = os.path.join(home, "uporter.toml")
        with open(settings, "w", encoding="utf-8") as file:
            file.write(f'addresses = [{port}]\n[exchanges]\nkeep = {keep}\n[limits]\nconnections = 20000\n'
                       f'[site.quay]\ndocument-root = "{self.folder}"\n')
        words = [os.path.join(self.arguments.build, "uporterd"), "--settings", settings, "--threads", "1"]
        return Subject("product", words, port, dict(os.environ, HOME=home, XDG_STATE_HOME=home, XDG_RUNTIME_DIR=""))

    def keeping(self):
        """What it costs to keep exchanges, once as many are kept as there is room for."""
        rows = (("1 KiB file, exchanges kept against not kept", "0.95", "/1k.txt", 64, 5),
                ("script compiled, 2 at once, exchanges kept against not kept", "0.98", "/cgi-bin/compiled", 2, 5))
        for title, goal, path, connections, filling in rows:
            if not self.wanted(title):
                continue
            subjects = [self.settled("false"), self.settled("true")]
            for subject in subjects:
                subject.load("/1k.txt", filling, 64)
            self.note(f"With a full store of 64 MiB the server takes {resident_kib(subjects[1].process.pid) / 1024:.1f} MiB, "
                      f"without one {resident_kib(subjects[0].process.pid) / 1024:.1f} MiB.")
            self.compare(title, goal, subjects, path, connections)

    def floor(self, *words):
        port = free_port()
        program = os.path.join(self.arguments.build, "floors", words[0])
        return Subject("floor", [program] + [str(port) if word == "PORT" else word for word in words[1:]], port)

    def compare(self, title, goal, subjects, path, connections=64, headers=()):
        """Loads the subjects by turns; the last one is judged against the first."""
        for subject in subjects:
            subject.load(path, 1, connections, headers=headers)
            subject.rates.clear()
            subject.costs.clear()
        for _ in range(self.arguments.rounds):
            for subject in subjects:
                subject.load(path, self.arguments.seconds, connections, headers=headers)
        ratios = [b / a for a, b in zip(subjects[0].rates, subjects[-1].rates)]
        self.row(title, subjects, ratios if len(subjects) > 1 else None, goal)

    def row(self, title, subjects, ratios, goal):
        def spread(values, digits):
            middle = statistics.median(values)
            return f"{middle:,.{digits}f} ({min(values):,.{digits}f}–{max(values):,.{digits}f})"
        floor = spread(subjects[0].rates, 0) if len(subjects) > 1 else "–"
        floor_cost = spread(subjects[0].costs, 1) if len(subjects) > 1 else "–"
        ratio = f"{statistics.median(ratios):.2f}" if ratios else "–"
        self.rows.append([title, floor, spread(subjects[-1].rates, 0), ratio, goal, floor_cost,
                          spread(subjects[-1].costs, 1)])
        print(" | ".join(self.rows[-1]), flush=True)
        for subject in subjects:
            subject.stop()

    def files(self):
        small = self.file("1k.txt", 1024)
        middle = self.file("100k.bin", 100 * 1024)
        large = self.file("16m.bin", 16 * 1024 * 1024)
        time.sleep(2.2)  # Files this young would not be trusted by the cache.
        one = ("--threads", "1")
        if self.wanted("1 KiB file"):
            self.compare("1 KiB file", "0.85", [self.floor("file_loop", "read", "PORT", small), self.server(*one)], "/1k.txt")
        if self.wanted("100 KiB file"):
            self.compare("100 KiB file", "0.90", [self.floor("file_loop", "sendfile", "PORT", middle), self.server(*one)],
                         "/100k.bin")
        if self.wanted("16 MiB file"):
            self.compare("16 MiB file", "0.95", [self.floor("file_loop", "sendfile", "PORT", large), self.server(*one)],
                         "/16m.bin", 8)
        if self.wanted("304"):
            server = self.server(*one)
            with socket.create_connection(("127.0.0.1", server.port)) as client:
                client.sendall(b"GET /1k.txt HTTP/1.1\r\nHost: localhost\r\n\r\n")
                tag = re.search(rb"ETag: (\S+)", client.recv(4096)).group(1).decode()
            self.compare("1 KiB file, 304", "", [server], "/1k.txt", headers=[f"If-None-Match: {tag}"])
        if self.wanted("gzip"):
            text = self.file("8k.txt", 8192)
            large_text = self.file("1m.txt", 1024 * 1024)
            assert text and large_text
            time.sleep(2.2)
            self.compare("8 KiB text, gzip", "", [self.server(*one)], "/8k.txt", headers=["Accept-Encoding: gzip"])
            self.compare("1 MiB text, gzip", "", [self.server(*one)], "/1m.txt", 8, headers=["Accept-Encoding: gzip"])
        if self.wanted("threads"):
            self.compare("1 KiB file, two threads against one", "", [self.server(*one), self.server("--threads", "2")],
                         "/1k.txt")

    def listing(self):
        if not self.wanted("listing"):
            return
        for count in (1000, 10000):
            folder = os.path.join(self.folder, f"listing{count}")
            os.mkdir(folder)
            for i in range(count):
                with open(os.path.join(folder, f"crossing-{i}.txt"), "w", encoding="ascii") as file:
                    file.write("x" * (i % 50))
        self.compare("listing of 1,000 entries", "", [self.server("--threads", "1")], "/listing1000/", 8)
        server = self.server("--threads", "1")
        times = []
        for _ in range(10):
            with socket.create_connection(("127.0.0.1", server.port)) as client:
                begun = time.perf_counter()
                client.sendall(b"GET /listing10000/ HTTP/1.0\r\n\r\n")
                while client.recv(1 << 20):
                    pass
                times.append((time.perf_counter() - begun) * 1000)
        self.note(f"A listing of 10,000 entries takes {statistics.median(times):.0f} ms (goal: under 100 ms).")
        server.stop()

    def scripts(self):
        """A page from a fresh process for each request, against bare loops of spawn, read and wait."""
        folder = os.path.join(self.folder, "cgi-bin")
        os.makedirs(folder)
        pages = os.path.join(self.arguments.build, "floors", "pages")
        for name in ("compiled", "stream", "tick"):
            shutil.copy(pages, os.path.join(folder, name))
        sources = {"perl.pl": '#!/usr/bin/perl\nprint "Content-Type: text/plain\\n\\nKittiwake\\n";\n',
                   "python.py": "#!/usr/bin/python3\nprint('Content-Type: text/plain\\n\\nKittiwake')\n",
                   "page.php": "<?php echo 'Kittiwake';\n"}
        for name, source in sources.items():
            with open(os.path.join(folder, name), "w", encoding="ascii") as file:
                file.write(source)
            os.chmod(os.path.join(folder, name), 0o755)
        for name in ["compiled", *sources]:
            path = os.path.join(folder, name)
            command = ["/usr/bin/php-cgi", path] if name.endswith(".php") else [path]
            for together in (1, 2, 8):
                title = f"script {name}, {together} at once"
                if self.wanted(title):
                    self.compare_runs(title, command, f"/cgi-bin/{name}", together)
        self.large_server()
        self.stream(folder)

    def compare_runs(self, title, command, path, together):
        program = os.path.join(self.arguments.build, "floors", "spawn_race")
        server = self.server("--limit", "runs=64")
        before = cpu_seconds(server.process.pid)
        # One at a time, the turns differ most: it is up to the system on which processor each of the three wakes up.
        turns = (12 if together == 1 else 4) * self.arguments.rounds
        out = subprocess.run([program, str(server.port), path, str(together), str(turns), *command], capture_output=True,
                             text=True, check=True, env=self.environment_of(path)).stdout
        floors, rates = zip(*((float(word) for word in line.split()) for line in out.splitlines()))
        ratios = [b / a for a, b in zip(floors, rates)]
        cost = (cpu_seconds(server.process.pid) - before) / (sum(rates) * TURN) * 1e6
        self.rows.append([title, quartiles(floors, 0), quartiles(rates, 0), quartiles(ratios, 2), "0.90", "–",
                          f"{cost:,.0f}"])
        print(" | ".join(self.rows[-1]), flush=True)
        server.stop()

    def php_server(self, of_php, keep="false"):
        """A server whose PHP has those settings, and mostly no exchanges kept, as the floor keeps none either."""
        port = free_port()
        home = tempfile.mkdtemp(prefix="porter-bench-")
        settings = os.path.join(home, "uporter.toml")
        with open(settings, "w", encoding="utf-8") as file:
            file.write(f'addresses = [{port}]\n[site.quay]\ndocument-root = "{self.folder}"\n[exchanges]\nkeep = {keep}\n[interpreter.PHP]\n{of_php}\n')
        words = [os.path.join(self.arguments.build, "uporterd"), "--settings", settings]
        return Subject("product", words, port, dict(os.environ, HOME=home, XDG_STATE_HOME=home, XDG_RUNTIME_DIR=""))

    def php_floor(self, program, arguments, script):
        """The words of a floor whose processes run a page, and its environment."""
        told = [word for directive in ("opcache.validate_timestamps=1", "opcache.revalidate_freq=0",
                                       "user_ini.cache_ttl=-1", "realpath_cache_size=0",
                                       "post_max_size=64M") for word in ("-d", directive)]
        environment = dict(self.environment_of("/page.php"), PHP_FCGI_MAX_REQUESTS="0")
        for name in ("SCRIPT_FILENAME", "REQUEST_METHOD", "CONTENT_LENGTH", "CONTENT_TYPE"):
            environment.pop(name, None)
        words = [os.path.join(self.arguments.build, "floors", program), *map(str, arguments),
                 os.path.join(self.folder, script), "/usr/bin/php-cgi", *told]
        return words, environment

    def uploads(self, lua):
        """Large bodies to a script, against a bare loop that has them in memory and speaks no HTTP."""
        size = 16 * 1024 * 1024
        # Of the few in a second the last would not be counted.
        seconds = self.arguments.seconds * 4
        floors, products, costs = [], [], []
        for _ in range(self.arguments.rounds):
            words, environment = self.php_floor("fastcgi_loop", [1, seconds, size], "upload.php")
            out = subprocess.run(words, capture_output=True, text=True, check=True, env=environment).stdout
            floors.append(float(out.split()[0]))
            # Uploads that are broken off at the end would go on in the measured time.
            server = self.php_server('processes = 1\nsettings = { post_max_size = "64M" }')
            server.load("/upload.php", seconds, 4, options=("-s", lua))
            server.stop()
            products.append(server.rates[-1])
            costs.append(server.costs[-1])
        ratios = [b / a for a, b in zip(floors, products)]
        self.rows.append(["persistent PHP, 16 MiB upload, 1 process", quartiles(floors, 0), quartiles(products, 0),
                          quartiles(ratios, 2), "0.80", "–", f"{statistics.median(costs):,.0f}"])
        print(" | ".join(self.rows[-1]), flush=True)

    def kept(self):
        """PHP pages from persistent processes, against a bare FastCGI loop on as many, and against fresh processes."""
        if not self.wanted("persistent PHP"):
            return
        with open(os.path.join(self.folder, "page.php"), "w", encoding="ascii") as file:
            file.write("<?php echo 'Kittiwake';\n")
        with open(os.path.join(self.folder, "large.php"), "w", encoding="ascii") as file:
            file.write("<?php echo str_repeat('07:40 Skerry Head to Morrow Bay, Kittiwake.....\n', 22310);\n")
        with open(os.path.join(self.folder, "upload.php"), "w", encoding="ascii") as file:
            file.write("<?php echo strlen(file_get_contents('php://input'));\n")
        with open(os.path.join(self.folder, "tick.php"), "w", encoding="ascii") as file:
            file.write("<?php while (ob_get_level()) ob_end_clean(); for ($i = 0; $i < 100; ++$i) { echo hrtime(true), \"\\n\"; flush(); usleep(10000); }\n")
        parts = os.path.join(self.folder, "parts")
        os.mkdir(parts)
        for i in range(300):
            with open(os.path.join(parts, f"part{i}.php"), "w", encoding="ascii") as file:
                file.write(f"<?php\nclass Crossing{i} {{\n" + "".join(
                    f"  public function leg{line}($fare) {{ return $fare * {line} + strlen('Skerry Head {i}'); }}\n"
                    for line in range(97)) + "}\n")
        with open(os.path.join(self.folder, "application.php"), "w", encoding="ascii") as file:
            file.write("<?php\n$sum = 0;\nfor ($i = 0; $i < 300; ++$i) {\n  require_once __DIR__ . \"/parts/part$i.php\";\n"
                       "  $name = \"Crossing$i\";\n  $sum += (new $name)->leg5(2);\n}\necho $sum;\n")
        lua = os.path.join(self.folder, "upload.lua")
        with open(lua, "w", encoding="ascii") as file:
            file.write('wrk.method = "POST"\nwrk.body = string.rep("k", 16 * 1024 * 1024)\n'
                       'wrk.headers["Content-Type"] = "application/octet-stream"\n')
        time.sleep(2.5)  # What is younger is not remembered by opcache.
        rates = {}
        rows = (("small page, one client", "page.php", 1, 1, "0.75"), ("small page, 1 process", "page.php", 1, 64, "0.70"),
                ("small page, 2 processes", "page.php", 2, 64, "0.60"),
                ("300 included files, 1 process", "application.php", 1, 1, "0.95"),
                ("1 MiB page, 1 process", "large.php", 1, 8, "0.90"))
        for what, script, processes, connections, goal in rows:
            port = free_port()
            words, environment = self.php_floor("fastcgi_front", [port, processes], script)
            subjects = [Subject("floor", words, port, environment), self.php_server(f"processes = {processes}")]
            self.compare(f"persistent PHP, {what}", goal, subjects, "/" + script, connections)
            rates[what] = statistics.median(subjects[-1].rates)
        self.uploads(lua)
        self.compare("persistent PHP, 1 MiB page, exchanges kept against not kept", "",
                     [self.php_server("processes = 1"), self.php_server("processes = 1", "true")], "/large.php", 8)
        fresh = self.php_server("persistent = false")
        for what, script, goal in (("small page, 2 processes", "page.php", 100), ("300 included files, 1 process", "application.php", 10)):
            fresh.load("/" + script, 2, 2)
            rate = fresh.rates.pop()
            self.note(f"persistent PHP, {what}: {rates[what] / rate:.0f} times the {rate:.0f} a second of fresh processes (goal: {goal}).")
        fresh.stop()
        self.kept_beside_others()

    def kept_beside_others(self):
        server = self.php_server("processes = 2")
        delays = delays_of(server.port, "/tick.php")
        self.note(f"persistent PHP: from a script's flush to the client's read: {statistics.median(delays):.2f} ms, at most "
                  f"{max(delays):.2f} ms (goal: within 1 ms).")
        words = ["wrk", "-t1", "-c256", "-d5s", "--latency", f"http://127.0.0.1:{server.port}/page.php"]
        out = subprocess.run(words, capture_output=True, text=True, check=True).stdout
        failed = "Non-2xx" in out or "Socket errors" in out
        longest = re.search(r"Latency\s+\S+\s+\S+\s+(\S+)", out).group(1)
        self.note(f"persistent PHP: 256 connections on 2 processes: {'SOME REQUESTS FAILED' if failed else 'no request failed'}, "
                  f"the longest wait was {longest}.")
        ratios = []
        for _ in range(self.arguments.rounds):
            server.load("/1k.txt", 1, 64)
            beside = subprocess.Popen(["wrk", "-t1", "-c2", "-d2s", f"http://127.0.0.1:{server.port}/page.php"],
                                      stdout=subprocess.DEVNULL)
            time.sleep(0.3)
            server.load("/1k.txt", 1, 64)
            beside.wait()
            alone, both = server.rates[-2:]
            ratios.append(both / alone)
        self.note(f"1 KiB file beside persistent PHP at work on 2 cores: {statistics.median(ratios):.2f} of its rate alone (goal: 0.9).")
        time.sleep(2)
        counted = subprocess.run(["timeout", "10", "strace", "-f", "-q", "-e", "trace=all", "-p", str(server.process.pid)],
                                 capture_output=True, text=True, check=False).stderr
        woken = sum(1 for line in counted.splitlines() if "resumed>" in line or ("= " in line and "unfinished" not in line))
        self.note(f"An idle pool: {woken} system calls in 10 s (goal: none).")
        server.stop()

    def large_server(self):
        title = "script compiled, 2 at once, 1 GiB resident against none"
        if not self.wanted(title):
            return
        ballast = os.path.join(self.arguments.build, "floors", "libballast.so")
        subjects = [self.server(), self.server(environment=dict(os.environ, LD_PRELOAD=ballast))]
        self.note(f"The larger of the two servers has {resident_kib(subjects[1].process.pid) / 1024:.0f} MiB resident.")
        self.compare(title, "", subjects, "/cgi-bin/compiled", connections=2)

    def environment_of(self, path):
        """What the server gives a script: with less of it an interpreter has less to do (no locale to load)."""
        uporter = os.path.join(self.arguments.build, "uporter")
        out = subprocess.run([uporter, "rehearse", "--json", "--environment", self.folder + path], capture_output=True,
                             text=True, check=True)
        return dict(variable.split("=", 1) for variable in json.loads(out.stdout)["environment"])

    def stream(self, folder):
        if not self.wanted("stream"):
            return
        floor = self.floor("pipe_loop", "PORT", os.path.join(folder, "stream"))
        server = self.server()
        times = {floor.name: [], server.name: []}
        for _ in range(self.arguments.rounds):
            for subject in (floor, server):
                begun = time.perf_counter()
                with socket.create_connection(("127.0.0.1", subject.port)) as client:
                    client.sendall(b"GET /cgi-bin/stream HTTP/1.0\r\n\r\n")
                    while client.recv(1 << 20):
                        pass
                times[subject.name].append(time.perf_counter() - begun)
        ratio = statistics.median(a / b for a, b in zip(times["floor"], times["product"]))
        self.note(f"A response of 1 GiB from a script: {1 / statistics.median(times['product']):.2f} GiB/s, {ratio:.2f} of a bare "
                  f"pipe-to-socket loop (goal: 0.80); the server's memory afterwards: {resident_kib(server.process.pid) / 1024:.1f} MiB.")
        delays = delays_of(server.port, "/cgi-bin/tick")
        self.note(f"From a script's write to the client's read: {statistics.median(delays):.2f} ms, at most {max(delays):.2f} ms "
                  "(goal: within 1 ms).")
        floor.stop()
        server.stop()

    def idle(self):
        if not self.wanted("idle"):
            return
        count = 10000
        server = self.settled("false")
        time.sleep(2.5)
        before = resident_kib(server.process.pid)
        request = b"GET /1k.txt HTTP/1.1\r\nHost: localhost\r\n\r\n"
        clients = []
        for _ in range(count):
            client = socket.create_connection(("127.0.0.1", server.port))
            client.sendall(request)
            client.recv(4096)
            clients.append(client)
        each = (resident_kib(server.process.pid) - before) / count
        times = []
        for _ in range(200):
            begun = time.perf_counter()
            with socket.create_connection(("127.0.0.1", server.port)) as client:
                client.sendall(request)
                client.recv(4096)
            times.append((time.perf_counter() - begun) * 1000)
        self.note(f"{count:,} idle connections take {each:.2f} KiB each (goal: under 8 KiB); beside them another client is "
                  f"answered in {statistics.median(times):.2f} ms, at most {max(times):.2f} ms (goal: within 5 ms).")
        self.note(f"Memory before them: {before / 1024:.1f} MiB.")
        for client in clients:
            client.close()
        server.stop()

    def note(self, text):
        self.notes.append(text)
        print(text, flush=True)

    def report(self):
        memory = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") / 2**30
        machine = f"{os.cpu_count()} cores, {memory:.0f} GiB"
        stolen, everything = (now - then for now, then in zip(stolen_and_all(), self.begun))
        self.note(f"The host took {100 * stolen / everything:.0f} % of the processor time for other machines meanwhile.")
        lines = ["# Benchmark results", "", f"Machine: {machine}. {self.arguments.rounds} rounds of "
                 f"{self.arguments.seconds} s each, floor and product by turns; median (least–greatest). Load: wrk with one "
                 "thread on the same machine, 64 kept connections unless the row says otherwise. Scripts: bare loops of "
                 f"spawn, read and wait, and as many connections to the server, in {4 * self.arguments.rounds} pairs of turns "
                 "of a quarter of a second (three times as many at 1 at once); median (quartiles). The log of requests stays on.",
                 "", "| work | floor, 1/s | product, 1/s | ratio | goal | floor, µs of processor each | product, µs each |",
                 "| --- | ---: | ---: | ---: | ---: | ---: | ---: |"]
        lines += ["| " + " | ".join(row) + " |" for row in self.rows] + [""] + [f"- {note}" for note in self.notes]
        with open(os.path.join(HERE, "results.md"), "w", encoding="utf-8") as file:
            file.write("\n".join(lines) + "\n")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("build")
    parser.add_argument("--rounds", type=int, default=9)
    parser.add_argument("--seconds", type=int, default=1)
    parser.add_argument("--only", default="")
    arguments = parser.parse_args()
    import resource
    hard = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))
    bench = Bench(arguments)
    bench.files()
    bench.listing()
    bench.scripts()
    bench.kept()
    bench.keeping()
    bench.idle()
    if not arguments.only:
        bench.report()


if __name__ == "__main__":
    main()
