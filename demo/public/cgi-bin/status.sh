#!/bin/sh
# Today's status: which ships sail, and which departures are still to come.
data=$(dirname "$0")/../../data
today=$(date +%u)
now=$(date +%H:%M)

printf 'Content-Type: text/html; charset=utf-8\n\n'
cat <<PAGE
<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Today – Gull Sound Ferries</title>
<link rel="stylesheet" href="../style.css"></head><body>
<header class="banner"><p class="brand"><a href="../">Gull Sound Ferries</a></p></header><main>
<h1>Today at $now</h1>
<table><thead><tr><th>Vessel</th><th>State</th><th>Note</th></tr></thead><tbody>
PAGE
awk -F, 'NR > 1 { printf "<tr><td>%s</td><td>%s</td><td>%s</td></tr>\n", $1, $2, $3 }' "$data/vessels.csv"
echo '</tbody></table>'
awk -F, -v today="$today" -v now="$now" '
  FNR == NR { if (FNR > 1) name[$1] = $2; next }
  FNR > 1 && index($5, today) { all++; if ($3 > now) left++; if ($3 > now && (next_at == "" || $3 < next_at)) { next_at = $3; what = name[$1] " to " name[$2] } }
  END { printf "<p class=\"lead\">%d of %d departures are still to come", left, all
        if (next_at != "") printf ", the next one at %s from %s", next_at, what
        print ".</p>" }' "$data/ports.csv" "$data/crossings.csv"
echo '</main></body></html>'
