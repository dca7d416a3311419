#!/bin/sh
# Everything that make test checks after the build. Run it from the project's root.
set -eu

unformatted=$(git ls-files '*.go' | xargs gofmt -l)
if [ -n "$unformatted" ]; then
  echo "gofmt would change:" >&2
  echo "$unformatted" >&2
  exit 1
fi

go vet ./...
# The client runs on three systems.
for system in linux darwin windows; do
  GOOS=$system go vet ./cmd/tarn ./internal/cli ./internal/workspace ./internal/client ./internal/core/...
  GOOS=$system go build -o /dev/null ./cmd/tarn
done

# The end-to-end tests measure moments of a running send, and have the machine to themselves.
go test -p 3 -timeout 9m $(go list ./... | grep -v '/e2e$')
go test -timeout 9m ./e2e
