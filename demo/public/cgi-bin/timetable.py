#!/usr/bin/python3
"""The timetable: departures from one harbour on one day of the week, read from the company's data."""
import csv
import datetime
import html
import os
import urllib.parse

DATA = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "..", "data")
DAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"]


def rows(name):
    with open(os.path.join(DATA, name), newline="", encoding="utf-8") as file:
        return list(csv.DictReader(file))


def arrival(departs, minutes):
    start = datetime.datetime.strptime(departs, "%H:%M")
    return (start + datetime.timedelta(minutes=minutes)).strftime("%H:%M")


def options(pairs, chosen):
    out = []
    for value, label in pairs:
        mark = " selected" if value == chosen else ""
        out.append(f'<option value="{html.escape(value)}"{mark}>{html.escape(label)}</option>')
    return "".join(out)


query = urllib.parse.parse_qs(os.environ.get("QUERY_STRING", ""))
ports = {row["code"]: row for row in rows("ports.csv")}
port = query.get("port", ["SKE"])[0]
day = query.get("day", ["today"])[0]
number = datetime.date.today().isoweekday() if day == "today" else int(day) if day in list("1234567") else 0

if port not in ports or number == 0:
    print("Status: 404 Not Found")
    print("Content-Type: text/plain; charset=utf-8\n")
    print("There is no such harbour or day in the timetable.")
    raise SystemExit

found = [row for row in rows("crossings.csv") if row["from"] == port and str(number) in row["days"]]
found.sort(key=lambda row: row["departs"])
print("Content-Type: text/html; charset=utf-8\n")
print(f"""<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Timetable – Gull Sound Ferries</title>
<link rel="stylesheet" href="../style.css"></head><body>
<header class="banner"><p class="brand"><a href="../">Gull Sound Ferries</a></p></header><main>
<h1>From {html.escape(ports[port]["name"])} on {DAYS[number - 1]}</h1>
<form><label>Harbour <select name="port">{options([(c, r["name"]) for c, r in ports.items()], port)}</select></label>
<label>Day <select name="day">{options([(str(i + 1), d) for i, d in enumerate(DAYS)], str(number))}</select></label>
<button>Show</button></form>
<table><thead><tr><th>Departs</th><th>To</th><th>Arrives</th><th>Quay</th><th>Vessel</th></tr></thead><tbody>""")
for row in found:
    to = ports[row["to"]]
    print(f'<tr><td>{row["departs"]}</td><td>{html.escape(to["name"])}</td>'
          f'<td>{arrival(row["departs"], int(row["minutes"]))}</td><td>{html.escape(ports[port]["quay"])}</td>'
          f'<td>{html.escape(row["vessel"])}</td></tr>')
print(f"</tbody></table><p class=\"lead\">{len(found)} departures</p></main></body></html>")
