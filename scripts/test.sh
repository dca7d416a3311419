#!/bin/sh
# Everything that make test checks after the build. Run it from the project's root.
set -eu

. scripts/look.sh
look

# What takes the longest, and waits the most, begins first; the others run beside it.
longest='./e2e ./internal/service ./internal/workspace'
# shellcheck disable=SC2086,SC2046
go test -p 3 -timeout 20m $longest $(go list ./... | grep -v -e '/e2e$' -e '/internal/service$' -e '/internal/workspace$')
