#!/bin/sh
# What every station gets: which version, and why now; and what all of that is made of.
set -eu
version=${ORDOTAXIS_TAG#v}
printf 'version %s\nsince  %s\n' "${version:-$ORDOTAXIS_COMMIT}" "$ORDOTAXIS_EVENT" > bundle.txt
cat bundle.txt
cat > bom.json <<'END'
{ "bomFormat": "CycloneDX", "specVersion": "1.6", "components": [
  { "type": "library", "name": "zlib", "version": "1.2.13", "purl": "pkg:generic/zlib@1.2.13" },
  { "type": "firmware", "name": "tidegauge", "version": "1.0" }
] }
END
