#!/bin/sh
# What can be said of the code without running it. Run it from the project's root.
set -eu
. scripts/look.sh
look

(cd web && npx --no-install biome check --error-on-warnings)
bin/tools/staticcheck ./...
(cd bench && ../bin/tools/staticcheck ./...)
# What only one of them uses looks unused on the others.
for system in darwin windows; do
  GOOS=$system bin/tools/staticcheck -tests=false -checks inherit,-U1000 ./cmd/tarn ./internal/cli ./internal/workspace ./internal/client
done

# Known holes in what is built upon. Their data is no part of the project: a folder or an address of it is named by GOVULNDB.
if [ -n "${GOVULNDB:-}" ]; then
  bin/tools/govulncheck -db "$GOVULNDB" ./...
else
  echo "Known holes in modules were not looked for: set GOVULNDB to where their data is, as file:///… or https://…"
fi
