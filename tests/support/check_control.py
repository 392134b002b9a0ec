#!/usr/bin/python3
"""Holds the answers of a running server's control interface against its description.

Usage: check_control.py DESCRIPTION SOCKET FOLDER PROGRAMS
Every call of the description is made at least once, with each of its statuses that can be brought about. PROGRAMS is the
folder of uporter.
"""
import glob
import http.client
import json
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import time

import jsonschema
import yaml

description_file, socket_path, folder, programs = sys.argv[1:]
with open(description_file, encoding="utf-8") as file:
    description = yaml.safe_load(file)
seen = set()
failures = []


class Connection(http.client.HTTPConnection):
    def connect(self):
        self.sock = socket.socket(socket.AF_UNIX)
        self.sock.connect(socket_path)


class Server:
    """A further server, whose control interface is called while it is entered."""

    def __init__(self, words, environment):
        self.program = subprocess.Popen([programs + "/uporter", *words], env=environment, stdout=subprocess.PIPE, text=True)
        for line in self.program.stdout:
            if "Ctrl+C" in line:
                break
        self.socket, = [path for path in glob.glob(environment["XDG_STATE_HOME"] + "/upright-porter/*/control")
                        if not os.path.islink(path)]

    def __enter__(self):
        global socket_path
        self.before, socket_path = socket_path, self.socket

    def __exit__(self, *_):
        global socket_path
        socket_path = self.before
        self.program.terminate()
        self.program.wait()


def call(method, template, status, target=None, body=None, connection=None, fields=None):
    connection = connection or Connection("localhost")
    connection.request(method, target or template, None if body is None else json.dumps(body), fields or {})
    response = connection.getresponse()
    # Events have no end.
    goes_on = response.getheader("Content-Type") == "text/event-stream"
    text = (response.readline() if goes_on else response.read()).decode()
    what = f"{method} {target or template}"
    if response.status != status:
        failures.append(f"{what}: {response.status} in place of {status}: {text}")
        return None
    seen.add((method.lower(), template, str(status)))
    described = description["paths"][template][method.lower()]["responses"].get(str(status))
    if described is None:
        failures.append(f"{what}: the status {status} is not described")
        return None
    (kind, content), = described["content"].items()
    if kind != "*/*" and response.getheader("Content-Type") != kind:
        failures.append(f"{what}: it is {response.getheader('Content-Type')}, and described as {kind}")
    if kind not in ("application/json", "application/x-ndjson"):
        return text
    documents = [json.loads(line) for line in text.splitlines()] if kind == "application/x-ndjson" else [json.loads(text)]
    schema = dict(content["schema"], components=description["components"])
    for document in documents:
        try:
            jsonschema.validate(document, schema)
        except jsonschema.ValidationError as error:
            failures.append(f"{what}: {error.message} at {list(error.absolute_path)}")
    return documents[0] if documents else None


call("GET", "/v1/status", 200)
call("GET", "/v1/metrics", 200)
call("POST", "/v1/reload", 200)
call("GET", "/v1/log", 200, "/v1/log?limit=5&errors=false")
call("GET", "/v1/log", 422, "/v1/log?limit=some")
call("GET", "/v1/sites", 200)
call("POST", "/v1/sites", 201, body={"name": "tides", "folder": folder, "hosts": ["tides.localhost"]})
call("POST", "/v1/sites", 409, body={"name": "tides", "folder": folder})
call("POST", "/v1/sites", 409, body={"name": "none", "folder": "/no/such/folder"})
call("POST", "/v1/sites", 422, body={"name": "tides"})
call("POST", "/v1/sites", 422, body={"name": "x", "folder": folder, "port": 70000})
call("POST", "/v1/sites", 201, body={"name": "Tide Tables!", "folder": folder, "until_stop": True})
call("POST", "/v1/mounts", 201, body={"site": "tides", "path": "/old", "target": folder})
call("POST", "/v1/mounts", 409, body={"site": "tides", "path": "/old", "target": folder})
call("POST", "/v1/mounts", 422, body={"site": "tides", "path": "old", "target": folder})
call("GET", "/v1/mounts", 200)
call("DELETE", "/v1/mounts", 200, "/v1/mounts?site=tides&path=%2Fold")
call("DELETE", "/v1/mounts", 409, "/v1/mounts?site=tides&path=%2Fold")
call("PATCH", "/v1/sites/{name}", 200, "/v1/sites/tides", {"hosts": ["tides.localhost"], "fallback": "index.html"})
call("PATCH", "/v1/sites/{name}", 409, "/v1/sites/tides", {"fallback": "none.php"})
call("PATCH", "/v1/sites/{name}", 409, "/v1/sites/none", {"fallback": ""})
call("PATCH", "/v1/sites/{name}", 422, "/v1/sites/tides", {})
call("PATCH", "/v1/sites/{name}", 422, "/v1/sites/tides", {"folder": "tides"})
call("DELETE", "/v1/sites/{name}", 200, "/v1/sites/tides")
call("DELETE", "/v1/sites/{name}", 409, "/v1/sites/tides")
call("POST", "/v1/explain", 200, body={"what": "http://gulls.localhost/", "folder": folder})
call("POST", "/v1/explain", 200, body={"what": "index.html", "folder": folder})
call("POST", "/v1/explain", 422, body={})

status = call("GET", "/v1/status", 200)
port = status["addresses"][0]["port"]
for target in ("/", "/none", "/desk/large.bin"):
    with open(folder + "/large.bin", "wb") as file:
        file.write(b"l" * 300000)
    client = http.client.HTTPConnection("127.0.0.1", port)
    client.request("POST" if target == "/none" else "GET", target, "a=b" if target == "/none" else None,
                   {"Host": "gulls.localhost"})
    client.getresponse().read()
call("GET", "/v1/exchanges", 200, "/v1/exchanges?limit=10")
call("GET", "/v1/exchanges", 422, "/v1/exchanges?status=some")
call("GET", "/v1/exchanges.har", 200)
call("GET", "/v1/exchanges.har", 422, "/v1/exchanges.har?limit=0")
one = "/v1/exchanges/{number}"
call("GET", one, 200, "/v1/exchanges/1")
call("GET", one, 404, "/v1/exchanges/999")
for part in ("request", "response", "page"):
    call("GET", f"{one}/{part}", 200, f"/v1/exchanges/1/{part}")
    call("GET", f"{one}/{part}", 404, f"/v1/exchanges/999/{part}")
call("GET", f"{one}/curl", 200, "/v1/exchanges/2/curl")
call("GET", f"{one}/curl", 404, "/v1/exchanges/999/curl")
call("GET", f"{one}/difference/{{right}}", 200, "/v1/exchanges/1/difference/2")
call("GET", f"{one}/difference/{{right}}", 404, "/v1/exchanges/1/difference/999")
call("POST", f"{one}/again", 200, "/v1/exchanges/2/again", {"fields": [{"name": "X-Quay", "value": "one"}]})
call("POST", f"{one}/again", 404, "/v1/exchanges/999/again", {})
call("POST", f"{one}/again", 422, "/v1/exchanges/1/again", {"method": "A B"})
client = http.client.HTTPConnection("127.0.0.1", port)
client.request("POST", "/none", b"b" * 2000000, {"Host": "gulls.localhost"})
client.getresponse().read()
last = call("GET", "/v1/exchanges", 200)["last"]
call("POST", f"{one}/again", 409, f"/v1/exchanges/{last}/again", {})
call("GET", f"{one}/curl", 409, f"/v1/exchanges/{last}/curl")
call("GET", "/v1/events", 200)
served = folder + "/large.bin"
with open(served, "wb") as file:
    file.write(b"s")
for part in ("response", "page"):
    call("GET", f"{one}/{part}", 410, f"/v1/exchanges/3/{part}")

# The console, at its own address.
key = status["console"].rsplit("=", 1)[1]
console_port = int(status["console"].split(":")[2].split("/")[0])
for given, wanted in ((key, 200), ("none", 401)):
    call("GET", "/v1/console/key", wanted, connection=http.client.HTTPConnection("127.0.0.1", console_port),
         fields={"Authorization": "Bearer " + given})

# Working on pages.
os.makedirs(folder + "/cgi-bin", exist_ok=True)
for name, text in (("quick", "printf 'Content-Type: text/plain\\n\\nfog\\n'"), ("slow", "sleep 4; printf '\\n'")):
    with open(f"{folder}/cgi-bin/{name}", "w", encoding="utf-8") as file:
        file.write("#!/bin/sh\n" + text + "\n")
    os.chmod(f"{folder}/cgi-bin/{name}", 0o755)
call("GET", "/v1/folders", 200)
call("GET", "/v1/folders", 404, "/v1/folders?path=/none")
call("GET", "/v1/folders", 422, "/v1/folders?path=none")
for name in ("tree", "source", "watch"):
    path = "/desk/cgi-bin" + ("" if name == "tree" else "/quick")
    call("GET", "/v1/" + name, 200, f"/v1/{name}?site=gulls&path={path}")
    call("GET", "/v1/" + name, 404, f"/v1/{name}?site=none&path=/")
    call("GET", "/v1/" + name, 422, f"/v1/{name}?site=gulls&path=none")
call("POST", "/v1/rehearsals", 200, body={"site": "gulls", "path": "/desk/cgi-bin/quick"})
call("POST", "/v1/rehearsals", 404, body={"site": "none", "path": "/"})
call("POST", "/v1/rehearsals", 409, body={"site": "gulls", "path": "/desk/large.bin"})
call("POST", "/v1/rehearsals", 422, body={"site": "gulls", "path": "none"})
busy = [threading.Thread(target=call, args=("POST", "/v1/rehearsals", 200),
                         kwargs={"body": {"site": "gulls", "path": "/desk/cgi-bin/slow"}}) for _ in range(8)]
for thread in busy:
    thread.start()
time.sleep(1)
call("POST", "/v1/rehearsals", 503, body={"site": "gulls", "path": "/desk/cgi-bin/quick"})
for thread in busy:
    thread.join()
call("GET", "/v1/languages", 200)
call("GET", "/v1/languages/{name}", 200, "/v1/languages/Perl")
call("GET", "/v1/languages/{name}", 404, "/v1/languages/none")
call("GET", "/v1/languages/{name}/page", 200, "/v1/languages/PHP/page")
call("GET", "/v1/languages/{name}/page", 404, "/v1/languages/Perl/page")
call("POST", "/v1/sites/{name}/folder", 404, "/v1/sites/none/folder")

# The settings as a text.
now = call("GET", "/v1/settings", 200)
call("POST", "/v1/settings/check", 200, body={"text": now["text"] + "\n[site.quay]\ndocument-root = \"/none\"\n"})
call("POST", "/v1/settings/check", 422, body={})
call("PUT", "/v1/settings", 200, body={"text": now["text"] + "\n# quay\n", "version": now["version"]})
call("PUT", "/v1/settings", 409, body={"text": now["text"], "version": now["version"]})
call("PUT", "/v1/settings", 422, body={"text": ""})

# Pauses; a port that another program takes meanwhile.
call("POST", "/v1/pause", 200)
holder = socket.socket()
holder.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
holder.bind(("127.0.0.1", port))
holder.listen()
call("POST", "/v1/resume", 409)
holder.close()
call("POST", "/v1/resume", 200)

# Servers of its own kind: with stand-ins for the desktop's and the service manager's programs, and without settings.
own = tempfile.mkdtemp()
for name, text in (("xdg-open", "exit 0"), ("systemctl", f"test ! -e {own}/refuses")):
    with open(f"{own}/{name}", "w", encoding="utf-8") as file:
        file.write("#!/bin/sh\n" + text + "\n")
    os.chmod(f"{own}/{name}", 0o755)
with open(own + "/uporter.toml", "w", encoding="utf-8") as file:
    file.write(f"console = false\naddresses = [{port + 1}]\n[site.quay]\ndocument-root = \"{folder}\"\n")
environment = {**os.environ, "HOME": own, "XDG_STATE_HOME": own + "/state", "XDG_RUNTIME_DIR": "", "XDG_CONFIG_HOME": "",
               "PATH": own + ":" + os.environ["PATH"], "DISPLAY": ":99"}
with Server(["serve", "--settings", own + "/uporter.toml"], environment):
    call("POST", "/v1/sites/{name}/folder", 200, "/v1/sites/quay/folder")
    call("GET", "/v1/autostart", 200)
    call("PUT", "/v1/autostart", 422, body={})
    call("PUT", "/v1/autostart", 200, body={"on": True})
    open(own + "/refuses", "w", encoding="utf-8").close()
    call("PUT", "/v1/autostart", 503, body={"on": True})
environment.update(XDG_STATE_HOME=own + "/other", DISPLAY="")
with Server(["serve", folder, "--port", "0", "--console", "off"], environment):
    name = call("GET", "/v1/status", 200)["sites"][0]["name"]
    call("POST", "/v1/sites/{name}/folder", 503, f"/v1/sites/{name}/folder")
    for method, path in (("GET", "/v1/autostart"), ("PUT", "/v1/autostart"), ("GET", "/v1/settings"),
                         ("PUT", "/v1/settings"), ("POST", "/v1/settings/check")):
        call(method, path, 409, body={"on": True, "text": "", "version": "none"})
    call("POST", "/v1/restart", 202)
shutil.rmtree(own)
# That uporter does not lie beside uporterd cannot be brought about here.
seen.add(("get", "/v1/autostart", "503"))

settings = status["settings"]
with open(settings, encoding="utf-8") as file:
    good = file.read()
with open(settings, "w", encoding="utf-8") as file:
    file.write(good + "\nlistin = true\nport = 3\n")
call("POST", "/v1/reload", 409)
call("POST", "/v1/restart", 409)
call("GET", "/v1/status", 200)
with open(settings, "w", encoding="utf-8") as file:
    file.write(good)

for target, method, wanted in (("/v1/none", "GET", 404), ("/v1/status", "POST", 405)):
    connection = Connection("localhost")
    connection.request(method, target)
    if (status := connection.getresponse().status) != wanted:
        failures.append(f"{method} {target}: {status} in place of {wanted}")
call("POST", "/v1/stop", 202)

# What hangs takes its time, and so does a server that stops; tests/server/control.cpp has both.
LEFT_OUT = {("post", "/v1/pause", "409")}
for path, methods in description["paths"].items():
    for method, operation in methods.items():
        for status in operation["responses"]:
            if (method, path, status) not in seen and status != "504" and (method, path, status) not in LEFT_OUT:
                failures.append(f"{method.upper()} {path}: nothing was answered with {status}")
print("\n".join(failures) or f"{len(seen)} calls held against the description")
sys.exit(1 if failures else 0)
