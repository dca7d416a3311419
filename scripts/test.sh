#!/bin/sh
# Everything that make test checks after the build. Run it from the project's root.
set -eu

. scripts/look.sh
look

# What takes the longest, and waits the most, has the machine first; the others take what it leaves.
log=$(mktemp)
trap 'rm -f "$log"' EXIT
first='./internal/service ./internal/workspace'
# shellcheck disable=SC2086,SC2046
nice -n 10 go test -p 2 -timeout 20m $first $(go list ./... | grep -v -e '/e2e$' -e '/internal/service$' -e '/internal/workspace$') >"$log" 2>&1 &
others=$!
failed=0
go test -timeout 20m ./e2e || failed=1
wait "$others" || failed=1
cat "$log"
exit "$failed"
