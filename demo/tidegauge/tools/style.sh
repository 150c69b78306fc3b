#!/bin/sh
# Finds tabs, trailing blanks and lines over 130 characters in C sources.
set -eu
bad=0
for file in $(find "$@" -name '*.[ch]' | sort); do
    printf '%s\n' "$file"
    if grep -nE '	|[[:blank:]]$|.{131,}' "$file"; then bad=1; fi
done
[ $bad -eq 0 ] || { echo "style: tabs, trailing blanks or long lines, see above"; exit 1; }
echo "style: fine"
