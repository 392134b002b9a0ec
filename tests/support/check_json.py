#!/usr/bin/python3
"""Holds what commands print with --json against the description of the control interface.

Usage: check_json.py DESCRIPTION UPORTER SETTINGS
SETTINGS have one site, "tides", with an index file and the script cgi-bin/tides.
"""
import json
import os
import subprocess
import sys

import jsonschema
import yaml

description_file, uporter, settings = sys.argv[1:]
with open(description_file, encoding="utf-8") as file:
    description = yaml.safe_load(file)
folder = os.path.dirname(settings)
port = next(line for line in open(settings, encoding="utf-8") if "addresses" in line).split("[")[1].split("]")[0]
url = f"http://localhost:{port}/"
failures = []
count = 0


def of_call(method, path):
    responses = description["paths"][path][method]["responses"]
    (content,) = responses[min(responses)]["content"].values()
    return content["schema"]


def component(name):
    return {"$ref": f"#/components/schemas/{name}"}


def held(words, schema, status=0, lines=False):
    """Runs the command and holds its output against the schema; what it printed."""
    global count
    count += 1
    done = subprocess.run([uporter, *words, "--json", "--settings", settings], capture_output=True, text=True, timeout=60)
    what = " ".join(words)
    if done.returncode != status:
        failures.append(f"{what}: status {done.returncode} in place of {status}: {done.stdout}{done.stderr}")
    try:
        documents = [json.loads(line) for line in done.stdout.splitlines()] if lines else [json.loads(done.stdout)]
    except json.JSONDecodeError as error:
        failures.append(f"{what}: no JSON ({error}): {done.stdout}{done.stderr}")
        return None
    for document in documents:
        if not isinstance(document, dict):
            failures.append(f"{what}: it is no object")
        try:
            jsonschema.validate(document, dict(schema, components=description["components"]))
        except jsonschema.ValidationError as error:
            failures.append(f"{what}: {error.message} at {list(error.absolute_path)}")
    return documents[0] if documents else None


findings = component("Findings")
held(["status"], component("Stopped"), 1)
for words in (["log"], ["exchanges"], ["exchange", "1"], ["again", "1"], ["compare", "1", "2"], ["reload"], ["pause"]):
    held(words, findings, 1)
for words in (["nonsense"], ["status", "--nonsense"], ["site", "remove", "none"], ["site", "add", "x", "/no/such"],
              ["rehearse", "/no/such"], ["compare", "/no/such", settings]):
    held(words, findings, 2)
held(["stop"], component("State"))
held(["check"], component("FileCheck"))
held(["doctor"], component("Checks"))
held(["languages"], of_call("get", "/v1/languages"))
held(["explain", url], component("Explanation"), 1)
held(["autostart", "status"], component("StartAtLogin"), 1)
held(["start"], component("Status"))
held(["status"], component("Status"))
held(["status", "--all"], component("Servers"))
held(["pause"], component("State"))
held(["resume"], component("State"))
held(["reload"], component("Changed"))
held(["explain", url], component("Explanation"))
held(["site", "list"], of_call("get", "/v1/sites"))
held(["site", "add", "fares", folder], component("Changed"))
held(["site", "change", "fares", "--port", str(int(port) + 1)], component("Changed"))
held(["mount", "add", "/old", folder, "--site", "fares"], component("Changed"))
held(["mount", "list"], of_call("get", "/v1/mounts"))
held(["mount", "remove", "/old", "--site", "fares"], component("Changed"))
held(["site", "remove", "fares"], component("Changed"))
held(["rehearse", folder + "/pages/cgi-bin/tides"], component("Rehearsed"))
for _ in range(2):
    subprocess.run(["curl", "-s", url], check=True, capture_output=True)
held(["log"], component("LogLine"), lines=True)
held(["exchanges"], of_call("get", "/v1/exchanges"))
held(["exchange", "1"], component("Exchange"))
held(["compare", "1", "2"], component("Difference"))
held(["again", "1"], of_call("post", "/v1/exchanges/{number}/again"))
held(["open"], {"type": "object", "required": ["url"]})
held(["restart"], component("Status"))
held(["stop"], component("State"))
for failure in failures:
    print(failure)
print(f"{count} commands held against the description")
sys.exit(1 if failures else 0)
