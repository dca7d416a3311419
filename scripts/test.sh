#!/bin/sh
# Everything that make test checks after the build. Run it from the project's root.
set -eu

. scripts/look.sh
look

# The end-to-end tests take the longest, and wait the most: they begin first, and the others run beside them.
go test -p 3 -timeout 20m ./e2e $(go list ./... | grep -v '/e2e$')
