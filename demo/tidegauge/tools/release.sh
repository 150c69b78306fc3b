#!/bin/sh
# What a release holds, for those who install it.
set -eu
{
    echo "Tide gauge firmware $1"
    tar -tf "$2"
    cksum "$2"
} > out/release.txt
cat out/release.txt
