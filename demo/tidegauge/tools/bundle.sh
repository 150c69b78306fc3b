#!/bin/sh
# Packs what a station needs into one archive.
set -eu
mkdir -p out/bundle
cp out/gauge NOTICE out/bundle/
tar -cf out/bundle.tar -C out --sort=name --mtime="@${SOURCE_DATE_EPOCH:-0}" bundle
printf "bundle: %s bytes\n" "$(wc -c < out/bundle.tar | tr -d " ")"
