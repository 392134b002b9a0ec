#!/usr/bin/python3
"""Makes invented calls of the control interface, and watches that each is answered.

Usage: control.py UPORTERD [SECONDS] [SEED]

Calls, their parameters and the members of their bodies are those of docs/control.openapi.yaml; their values, types, depths,
sizes and order are invented. The server is one built with sanitizers. It fails when the server ends though nobody has
stopped it, when a call is not answered within 30 s, and when a response is not what its type says.
"""
import json
import os
import random
import re
import signal
import socket
import subprocess
import sys
import tempfile
import time

import yaml

PATIENCE = 30
NAMES = ["name", "folder", "hosts", "port", "root_of", "fallback", "path", "site", "text", "version", "what", "method", "target",
         "fields", "without", "body", "body_base64", "query", "type", "value", "on"]
WORDS = ["tides", "", "localhost", "/", "/cgi-bin/echo", "/../..", "*.localhost", "GET", "Zm9n", "a" * 3000, "\u0000", "k\u00e4then",
         "\ud7ff\u2028", "[site.x]\n", "http://localhost:1/", "file:///etc/passwd", "1", "-1", "99999999999999999999", "true"]


def invented(chance, depth=0):
    kind = chance.randrange(9 if depth < 4 else 6)
    if kind == 0:
        return chance.choice([None, True, False])
    if kind == 1:
        return chance.choice([0, 1, -1, 80, 65536, 2**63, 1e308, 0.5])
    if kind in (2, 3, 4, 5):
        return chance.choice(WORDS)
    if kind == 6:
        return [invented(chance, depth + 1) for _ in range(chance.randrange(5))]
    return {chance.choice(NAMES): invented(chance, depth + 1) for _ in range(chance.randrange(6))}


def body_of(chance):
    kind = chance.randrange(12)
    if kind == 0:
        levels = chance.choice([127, 128, 129, 5000, 30000])
        return (b"[" * levels) + (b"]" * levels if chance.random() < 0.5 else b"")
    if kind == 1:
        return b'{"fields":' * chance.choice([10, 200, 5000]) + b"1"
    if kind == 2:
        return os.urandom(chance.randrange(200))
    if kind == 3:
        return b'{"text":"' + b"\xff\xfe" * chance.randrange(1, 2000) + b'"}'
    if kind == 4:
        return b" " * chance.choice([10, 70_000, 9_000_000])
    return json.dumps(invented(chance) if kind == 5 else {chance.choice(NAMES): invented(chance) for _ in range(4)}).encode()


def calls_of(description):
    with open(description, encoding="utf-8") as file:
        paths = yaml.safe_load(file)["paths"]
    # What ends it has tests of its own, and what never ends cannot be waited for.
    left_out = {"/v1/stop", "/v1/restart", "/v1/events", "/v1/watch", "/v1/autostart"}
    return [(method.upper(), path, [one["name"] for one in call.get("parameters", []) if one.get("in") == "query"])
            for path, calls in paths.items() if path not in left_out
            for method, call in calls.items() if method in ("get", "post", "put", "patch", "delete")]


def quoted(chance):
    word = chance.choice(WORDS + ["%00", "%ff", "%zz", "..%2f"])
    return "".join(c if c.isalnum() or c in "/.%*" else "".join(f"%{b:02X}" for b in c.encode("utf-8", "surrogatepass")) for c in word)


def request_of(chance, calls):
    method, path, parameters = chance.choice(calls)
    if chance.random() < 0.05:
        method = chance.choice(["GET", "POST", "PUT", "DELETE", "BREW"])
    path = re.sub(r"\{number\}|\{other\}", lambda _: str(chance.choice([0, 1, 2, 3, 7, 10**19, "x"])), path)
    path = re.sub(r"\{[a-z_]+\}", lambda _: quoted(chance), path)
    query = "&".join(f"{name}={quoted(chance)}" for name in parameters if chance.random() < 0.5 and name != "follow")
    body = body_of(chance) if method != "GET" or chance.random() < 0.1 else b""
    head = f"{method} {path}{'?' + query if query else ''} HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: {len(body)}\r\n\r\n"
    return head.encode() + body


def ask(path, request):
    received = b""
    with socket.socket(socket.AF_UNIX) as client:
        client.settimeout(PATIENCE)
        client.connect(path)
        try:
            client.sendall(request)
        except OSError:
            pass  # It was refused before all was sent.
        try:
            while part := client.recv(65536):
                received += part
        except ConnectionError:
            pass
    return received


def main():
    program = sys.argv[1]
    seconds = float(sys.argv[2]) if len(sys.argv) > 2 else 60
    seed = int(sys.argv[3]) if len(sys.argv) > 3 else int(time.time())
    chance = random.Random(seed)
    calls = calls_of(os.path.join(os.path.dirname(os.path.abspath(__file__)), "../docs/control.openapi.yaml"))
    os.makedirs("build/fuzz", exist_ok=True)
    with tempfile.TemporaryDirectory() as folder, open("build/fuzz/control-log", "wb") as log:
        os.makedirs(folder + "/pages/cgi-bin")
        with open(folder + "/pages/cgi-bin/echo", "w", encoding="ascii") as file:
            file.write("#!/bin/sh\nprintf 'Content-Type: application/json\\n\\n'\ncat\n")
        os.chmod(folder + "/pages/cgi-bin/echo", 0o755)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        settings = f"addresses = {port}\n[site.tides]\ndocument-root = \"pages\"\nhosts = [\"localhost\"]\n[limits]\nfirst-byte = 4\n"
        environment = dict(os.environ, HOME=folder, XDG_STATE_HOME=folder + "/state", XDG_RUNTIME_DIR="", DISPLAY="",
                           WAYLAND_DISPLAY="", ASAN_OPTIONS="detect_leaks=0")

        def restore():
            with open(folder + "/uporter.toml", "w", encoding="ascii") as file:
                file.write(settings)

        restore()
        server = subprocess.Popen([program, "--settings", folder + "/uporter.toml"], stdout=log, stderr=log, env=environment)
        control = None
        for _ in range(600):
            control = next((os.path.join(at, "control") for at, _, names in os.walk(folder + "/state") if "control" in names), None)
            if control:
                break
            time.sleep(0.05)
        for body in (b"[" * 30000, b'{"fares":[1,2]}', b'{"fares":[1,3]}'):
            with socket.create_connection(("127.0.0.1", port)) as client:
                client.sendall(b"POST /cgi-bin/echo HTTP/1.0\r\nHost: localhost\r\nContent-Length: %d\r\n\r\n" % len(body) + body)
                while client.recv(65536):
                    pass
        last = b""

        def fail(what):
            with open("build/fuzz/control-last", "wb") as file:
                file.write(last)
            print(f"control: {what} (seed {seed}; sent last: build/fuzz/control-last, its log: build/fuzz/control-log)")
            server.kill()
            sys.exit(1)

        end = time.monotonic() + seconds
        count = 0
        statuses = {}
        while time.monotonic() < end:
            if count % 50 == 0:
                restore()
            last = request_of(chance, calls)
            try:
                received = ask(control, last)
            except socket.timeout:
                fail(f"no response within {PATIENCE} s")
            except OSError as error:
                fail(f"it cannot be asked: {error}")
            count += 1
            if server.poll() is not None:
                fail(f"it ended with {server.returncode}")
            status = received[9:12].decode(errors="replace")
            statuses[status] = statuses.get(status, 0) + 1
            if not status.isdigit() or status == "500":
                fail(f"it answered {received[:300]!r}")
        server.send_signal(signal.SIGTERM)
        if server.wait(timeout=60) != 0:
            fail(f"it ended with {server.returncode}")
    print(f"control: {count} calls in {seconds:.0f} s, all answered: {dict(sorted(statuses.items()))} (seed {seed})")


main()
