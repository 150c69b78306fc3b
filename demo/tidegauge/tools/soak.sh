#!/bin/sh
# Runs the gauge over some long series, one a second.
set -eu
for round in $(seq "$1"); do
    awk -v round="$round" 'BEGIN { for (i = 0; i < 20000; i++) print i / 96, 2400 + 100 * sin(i / 7 + round) }' | ./out/gauge 2400 0 | tail -n 1
    echo "round $round of $1 done"
    sleep 1
done
