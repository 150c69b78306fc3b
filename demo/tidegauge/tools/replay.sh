#!/bin/sh
# Feeds simulated readings through the gauge and checks that heights stay within the day's bounds.
set -eu
days=$(awk '$1 == "days" { print $2 }' "$1")
highest=$(awk '$1 == "highest" { print $2 }' "$1")
lowest=$(awk '$1 == "lowest" { print $2 }' "$1")
./out/simulator "$days" | ./out/gauge 0 0.5 > out/heights.txt
awk -v highest="$highest" -v lowest="$lowest" '
    { count++; printf "%s days  %7.1f mm\n", $1, $2 }
    $2 > highest || $2 < lowest { bad++; print "  out of bounds" }
    END { printf "%d heights, %d out of bounds\n", count, bad; exit bad > 0 }' out/heights.txt
