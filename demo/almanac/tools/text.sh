#!/bin/sh
set -eu
mkdir -p out
for table in $(find in -name "*.tsv" | sort); do
    printf '%s\n' "$(basename "$table" .tsv)"
    awk -F'\t' '{ printf "  day %d %02d:00  %-4s %5d mm\n", $1 / 24 + 1, $1 % 24, $2, $3 }' "$table"
done > out/almanac.txt
head -n 12 out/almanac.txt
