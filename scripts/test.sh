#!/bin/sh
# Everything that make test checks after the build. Run it from the project's root.
set -eu

. scripts/look.sh
look

# The end-to-end tests measure moments of a running send, and have the machine to themselves.
go test -p 3 -timeout 20m $(go list ./... | grep -v '/e2e$')
go test -timeout 20m ./e2e
