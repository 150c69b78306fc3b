#!/bin/sh
# Every line of every reading is an hour and a height.
set -eu
for file in "$1"/*.txt; do
    awk -v file="$file" 'NF != 2 || $1 !~ /^[0-9]+$/ || $2 !~ /^-?[0-9]+$/ { print file ":" NR ": not an hour and a height: " $0; bad = 1 } END { exit bad }' "$file"
    echo "$file: $(wc -l < "$file" | tr -d ' ') readings"
done
