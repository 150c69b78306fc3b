#!/bin/sh
# What every station gets: which commit, and why now.
set -eu
printf 'commit %s\nsince  %s\n' "$ORDOTAXIS_COMMIT" "$ORDOTAXIS_EVENT" > bundle.txt
cat bundle.txt
