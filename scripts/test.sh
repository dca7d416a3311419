#!/bin/sh
# Everything that make test checks after the build. Run it from the project's root.
set -eu

. scripts/look.sh
look

# What tests write is kept in memory where that has much room: a database for each test is 300 files. make soak and single tests run on disk.
room=$(df --output=avail -B1G /dev/shm 2>/dev/null | tail -1)
work=$(if [ "${room:-0}" -ge 8 ]; then mktemp -d /dev/shm/kettle-tarn-XXXXXX; else mktemp -d; fi)
trap 'rm -rf "$work"' EXIT
trap 'exit 1' HUP INT TERM
chmod 1777 "$work"
export TMPDIR="$work"

# What takes the longest, and waits the most, has the machine first; the others take what it leaves.
log="$work/log"
first='./internal/service ./internal/workspace'
# shellcheck disable=SC2086,SC2046
nice -n 10 go test -vet=off -ldflags=-w -p 2 -timeout 20m $first $(go list ./... | grep -v -e '/e2e$' -e '/internal/service$' -e '/internal/workspace$') >"$log" 2>&1 &
others=$!
failed=0
(cd bench && go test ./...) || failed=1 # a module of its own
go test -vet=off -ldflags=-w -timeout 20m ./e2e || failed=1
wait "$others" || failed=1
cat "$log"
exit "$failed"
