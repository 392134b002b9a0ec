#!/usr/bin/python3
"""Holds the answers of a running server's control interface against its description.

Usage: check_control.py DESCRIPTION SOCKET FOLDER
Every call of the description is made at least once, with each of its statuses that can be brought about.
"""
import http.client
import json
import socket
import sys

import jsonschema
import yaml

description_file, socket_path, folder = sys.argv[1:]
with open(description_file, encoding="utf-8") as file:
    description = yaml.safe_load(file)
seen = set()
failures = []


class Connection(http.client.HTTPConnection):
    def connect(self):
        self.sock = socket.socket(socket.AF_UNIX)
        self.sock.connect(socket_path)


def call(method, template, status, target=None, body=None):
    connection = Connection("localhost")
    connection.request(method, target or template, None if body is None else json.dumps(body))
    answer = connection.getresponse()
    # Events have no end.
    goes_on = answer.getheader("Content-Type") == "text/event-stream"
    text = (answer.readline() if goes_on else answer.read()).decode()
    what = f"{method} {target or template}"
    if answer.status != status:
        failures.append(f"{what}: {answer.status} in place of {status}: {text}")
        return None
    seen.add((method.lower(), template, str(status)))
    described = description["paths"][template][method.lower()]["responses"].get(str(status))
    if described is None:
        failures.append(f"{what}: the status {status} is not described")
        return None
    (kind, content), = described["content"].items()
    if kind != "*/*" and answer.getheader("Content-Type") != kind:
        failures.append(f"{what}: it is {answer.getheader('Content-Type')}, and described as {kind}")
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
call("POST", "/v1/reload", 200)
call("GET", "/v1/log", 200, "/v1/log?lines=5&errors=false")
call("GET", "/v1/log", 422, "/v1/log?lines=some")
call("GET", "/v1/sites", 200)
call("POST", "/v1/sites", 201, body={"name": "tides", "folder": folder, "hosts": ["tides.localhost"]})
call("POST", "/v1/sites", 409, body={"name": "tides", "folder": folder})
call("POST", "/v1/sites", 409, body={"name": "none", "folder": "/no/such/folder"})
call("POST", "/v1/sites", 422, body={"name": "tides"})
call("POST", "/v1/sites", 422, body={"name": "x", "folder": folder, "port": 70000})
call("POST", "/v1/mounts", 201, body={"site": "tides", "path": "/old", "folder": folder})
call("POST", "/v1/mounts", 409, body={"site": "tides", "path": "/old", "folder": folder})
call("POST", "/v1/mounts", 422, body={"site": "tides", "path": "old", "folder": folder})
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
call("GET", "/v1/exchanges", 200, "/v1/exchanges?most=10")
call("GET", "/v1/exchanges", 422, "/v1/exchanges?status=some")
call("GET", "/v1/exchanges.har", 200)
call("GET", "/v1/exchanges.har", 422, "/v1/exchanges.har?most=0")
one = "/v1/exchanges/{number}"
call("GET", one, 200, "/v1/exchanges/1")
call("GET", one, 404, "/v1/exchanges/999")
for part in ("request", "answer", "page"):
    call("GET", f"{one}/{part}", 200, f"/v1/exchanges/1/{part}")
    call("GET", f"{one}/{part}", 404, f"/v1/exchanges/999/{part}")
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
call("GET", "/v1/events", 200)
served = folder + "/large.bin"
with open(served, "wb") as file:
    file.write(b"s")
for part in ("answer", "page"):
    call("GET", f"{one}/{part}", 410, f"/v1/exchanges/3/{part}")

settings = status["settings"]
with open(settings, encoding="utf-8") as file:
    good = file.read()
with open(settings, "w", encoding="utf-8") as file:
    file.write(good + "\nlistin = true\nport = 3\n")
call("POST", "/v1/reload", 409)
call("GET", "/v1/status", 200)
with open(settings, "w", encoding="utf-8") as file:
    file.write(good)

for target, method, wanted in (("/v1/none", "GET", 404), ("/v1/status", "POST", 405)):
    connection = Connection("localhost")
    connection.request(method, target)
    if (status := connection.getresponse().status) != wanted:
        failures.append(f"{method} {target}: {status} in place of {wanted}")
call("POST", "/v1/stop", 202)

for path, methods in description["paths"].items():
    for method, operation in methods.items():
        for status in operation["responses"]:
            if (method, path, status) not in seen:
                failures.append(f"{method.upper()} {path}: nothing was answered with {status}")
print("\n".join(failures) or f"{len(seen)} calls held against the description")
sys.exit(1 if failures else 0)
