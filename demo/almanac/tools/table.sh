#!/bin/sh
# High and low waters of a station: where the height turns.
set -eu
mkdir -p out
awk '
    NR > 2 && (last - before) * ($2 - last) < 0 { printf "%d\t%s\t%d\n", hour, (last > before ? "high" : "low"), last }
    { before = last; last = $2; hour = $1 }' "readings/$1.txt" > "out/$1.tsv"
echo "$1: $(wc -l < "out/$1.tsv" | tr -d ' ') tides"
