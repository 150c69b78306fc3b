#!/bin/sh
set -eu
mkdir -p out
{
    echo '<!doctype html><title>Almanac</title><h1>Tides of the estuary</h1>'
    for table in $(find in -name "*.tsv" | sort); do
        echo "<h2>$(basename "$table" .tsv)</h2><table>"
        awk -F'\t' '{ printf "<tr><td>day %d<td>%02d:00<td>%s<td>%d mm\n", $1 / 24 + 1, $1 % 24, $2, $3 }' "$table"
        echo '</table>'
    done
} > out/almanac.html
wc -c out/almanac.html
