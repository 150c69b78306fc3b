#!/bin/sh
# Runs test files one after the other and writes how long each took as JUnit XML.
set -eu
mkdir -p out
{
  echo '<testsuites>'
  for file in "$@"; do
    begin=$(date +%s%N)
    sh "$file" >&2
    took=$(( ($(date +%s%N) - begin) / 1000000 ))
    printf '  <testsuite name="%s" file="%s"><testcase name="%s" time="%d.%03d"/></testsuite>\n' \
      "$file" "$file" "$file" $((took / 1000)) $((took % 1000))
  done
  echo '</testsuites>'
} > out/tests.xml
